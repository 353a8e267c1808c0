import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { Link } from "react-router";
import { ofWhy } from "../api/queries";
import { named, useAddress } from "./address";
import { At, Trouble, Waiting } from "./basics";
import { HexRow } from "./bytes";
import { Sheet } from "./dialog";
import { useKept } from "./lookback-state";
import { Key } from "./marks";

const ADDRESS = { why: named };

/** Opens the way from bytes to notice for a reading or an alarm; it stands in the URL. */
export function useWhy() {
  const [, put] = useAddress(ADDRESS, { back: true });
  return (why: string | null) => put({ why });
}

export const whyReading = (device: string, field: string, message: string) => `reading:${device}:${field}:${message}`;
export const whyAlarm = (id: number) => `alarm:${id}`;

const CODE =
  "mt-1 block overflow-x-auto border-l-2 border-line bg-raised px-2 py-1 font-mono text-[12px] whitespace-pre";
const PLACES: Record<string, string> = { condition: "conditions", route: "routes" };
const STAGES: Record<string, string> = {
  message: "arrived",
  bytes: "decoded",
  route: "routed",
  reading: "reading",
  before: "before",
  limit: "limit",
  condition: "condition",
  alarm: "alarm",
  person: "person",
};

export function WhySheet() {
  const [{ why: about }] = useAddress(ADDRESS);
  const show = useWhy();
  const kept = useKept();
  const why = useQuery({ ...ofWhy(about ?? ""), enabled: Boolean(about) });
  const lit = new Set<number>();
  for (const place of (why.data?.places ?? []) as { first: number; last: number }[])
    for (let i = place.first; i <= place.last; i += 1) lit.add(i);
  return (
    <Dialog.Root open={Boolean(about)} onOpenChange={(open) => !open && show(null)}>
      <Sheet width="w-[min(460px,100vw)]">
        <div className="mb-4 flex items-start gap-3">
          <Dialog.Title className="text-[17px] leading-tight font-bold">
            Why? {why.data && <span className="font-normal text-second">{why.data.about}</span>}
          </Dialog.Title>
          <Dialog.Close className="button ml-auto">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </div>
        {why.isPending && about && <Waiting what="the way from bytes to here" />}
        <Trouble error={why.error} />
        {why.data && (
          <>
            <ol className="border-l-2 border-line">
              {why.data.steps.map((step, i) => (
                <li key={i} className="relative pb-3.5 pl-5">
                  <span aria-hidden className="absolute top-1.5 -left-[7px] h-3 w-3 border-2 border-ink bg-paper" />
                  <div className="flex items-baseline gap-2">
                    <span className="text-[11.5px] text-second">{STAGES[step.stage]}</span>
                    {step.at && (
                      <span className="ml-auto text-[12px] text-second">
                        <At at={step.at} />
                      </span>
                    )}
                  </div>
                  <div className="font-semibold">{step.title}</div>
                  {step.detail && <div className="text-[13px] text-second">{step.detail}</div>}
                  {step.text && <code className={CODE}>{step.text.replace(/ {3,}/g, "  ")}</code>}
                  {step.definition && (
                    <Link
                      className="link text-[12.5px]"
                      to={kept(`/${PLACES[step.stage] ?? "decoders"}/${step.definition}`)}
                    >
                      version {step.version}
                    </Link>
                  )}
                </li>
              ))}
            </ol>
            {why.data.arrival && (
              <section className="mt-2">
                <h2 className="mb-1">
                  The bytes <span>· lit: what the value was read from</span>
                </h2>
                {why.data.arrival.text ? (
                  <pre
                    tabIndex={0}
                    className="overflow-x-auto bg-raised p-2 font-mono text-[12px] break-all whitespace-pre-wrap"
                  >
                    {why.data.arrival.text}
                  </pre>
                ) : (
                  <HexRow hex={why.data.arrival.hex} lit={lit} />
                )}
              </section>
            )}
          </>
        )}
      </Sheet>
    </Dialog.Root>
  );
}
