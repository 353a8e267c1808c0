import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { lazy, Suspense } from "react";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { ofDeliveries } from "../../api/queries";
import { ident, named, useAddress } from "../../parts/address";
import { At, Trouble, Waiting } from "../../parts/basics";
import { Sheet } from "../../parts/dialog";
import { useKeys, useNow } from "../../parts/keys";
import { useKept } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Subject } from "../../parts/subject";
import { exact, lasting } from "../../parts/time";
import { amount } from "../../parts/units";
import { useWhy, whyAlarm } from "../../parts/why";
import { counted } from "../../parts/words";
import { stateOf, type useActs } from "./acts";
import type { Asked } from "./boxes";
import { ofSheet } from "./queries";

const HelpText = lazy(() => import("../../help/text"));
const Around = lazy(() => import("./around"));
const ADDRESS = { alarm: ident, why: named };

/** Opens an alarm with all that belongs to it; it stands in the URL. */
export function useAlarmSheet() {
  const [, put] = useAddress(ADDRESS, { back: true });
  return (alarm: number | null) => put({ alarm });
}

export function AlarmSheet({
  acts,
  ask,
  keys,
}: {
  acts: ReturnType<typeof useActs>;
  ask: (what: Asked["what"], id: number) => void;
  keys: boolean;
}) {
  const [{ alarm: id, why }] = useAddress(ADDRESS);
  const show = useAlarmSheet();
  const sheet = useQuery({ ...ofSheet(id), enabled: id !== null });
  return (
    <Dialog.Root open={id !== null} onOpenChange={(open) => !open && show(null)}>
      <Sheet width="w-[min(620px,100vw)]">
        <div className="mb-2 flex items-start gap-3">
          <Dialog.Title className="flex min-w-0 items-start gap-2 text-[17px] leading-tight font-bold">
            {sheet.data && (
              <PriorityMark
                priority={sheet.data.alarm.priority}
                taken={Boolean(sheet.data.alarm.acknowledged_at)}
                size={20}
              />
            )}
            <b className="text-ink">{sheet.data?.alarm.text ?? "Alarm"}</b>
          </Dialog.Title>
          <Dialog.Close className="button ml-auto">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </div>
        {sheet.isPending && id && <Waiting what="the alarm" />}
        <Trouble error={sheet.error ?? acts.error} />
        {sheet.data && <Content sheet={sheet.data} acts={acts} ask={ask} keys={keys && why === null} />}
      </Sheet>
    </Dialog.Root>
  );
}

function Content({
  sheet,
  acts,
  ask,
  keys,
}: {
  sheet: Schemas["SheetOut"];
  acts: ReturnType<typeof useActs>;
  ask: (what: Asked["what"], id: number) => void;
  keys: boolean;
}) {
  const a = sheet.alarm;
  const now = useNow(5000);
  const kept = useKept();
  const why = useWhy();
  const operator = useMay("operator");
  const until = a.cleared_at ? new Date(a.cleared_at) : now;
  const one = { alarms: [a.id] };
  const take = () => !a.acknowledged_at && operator && acts.run({ act: "acknowledge", ...one });
  const shelve = () => operator && (a.shelved_until ? acts.run({ act: "unshelve", ...one }) : ask("shelve", a.id));
  useKeys(
    {
      a: take,
      s: shelve,
      i: () => operator && ask("assign", a.id),
      n: () => operator && ask("note", a.id),
      w: () => why(whyAlarm(a.id)),
    },
    keys,
  );
  return (
    <>
      <p className="text-second">
        <b className="text-ink">{stateOf(a)}</b> · {a.priority} priority ·{" "}
        <Subject device={a.device} title={a.device_title} />
        {a.device !== null && `, ${a.site_title ?? "no site"}`} · since <At at={a.raised_at} />,{" "}
        {a.cleared_at ? "lasted" : "for"} {lasting((until.getTime() - new Date(a.raised_at).getTime()) / 1000)}
        {a.assigned_to && <> · with {a.assigned_to}</>}
      </p>
      {a.caretaker && (
        <p className="text-second">
          Looked after by <span className="text-ink">{a.caretaker}</span>
        </p>
      )}
      {a.shelved_until && (
        <p className="mt-1 border-l-3 border-ink pl-2">
          Shelved by {a.shelved_by} until {exact(new Date(a.shelved_until))}: {a.shelved_why}
        </p>
      )}
      {operator && (
        <div className="mt-3 flex flex-wrap gap-2" role="toolbar" aria-label="What to do with it">
          {!a.acknowledged_at && (
            <button type="button" className="button strong" onClick={take}>
              Acknowledge <Key>A</Key>
            </button>
          )}
          {!a.cleared_at && (
            <button type="button" className="button" onClick={shelve}>
              {a.shelved_until ? "Take off the shelf" : "Shelve"} <Key>S</Key>
            </button>
          )}
          <button type="button" className="button" onClick={() => ask("assign", a.id)}>
            Assign <Key>I</Key>
          </button>
          <button type="button" className="button" onClick={() => ask("note", a.id)}>
            Note <Key>N</Key>
          </button>
          <button type="button" className="button" onClick={() => why(whyAlarm(a.id))}>
            Why? <Key>W</Key>
          </button>
        </div>
      )}
      <section className="mt-4">
        <h2>
          The condition{" "}
          <span>
            ·{" "}
            <Link className="link" to={kept(`/conditions/${a.definition}`)}>
              {a.condition}
            </Link>
            , version {a.version}
          </span>
        </h2>
        <p>{sheet.sentence}</p>
        {a.value !== null && (
          <p className="mt-1">
            It stood at <b>{amount(a.value, a.unit)}</b>
            {a.limit !== null && (
              <>
                ; the limit was <b>{amount(a.limit, a.unit)}</b>
              </>
            )}
            .
          </p>
        )}
      </section>
      {a.device !== null && a.field && (
        <Suspense fallback={null}>
          <Around alarm={a} until={until} />
        </Suspense>
      )}
      {sheet.instruction && (
        <section className="mt-4">
          <h2>What to do</h2>
          <Suspense fallback={<p className="text-second">…</p>}>
            <HelpText text={sheet.instruction} />
          </Suspense>
        </section>
      )}
      <section className="mt-4">
        <h2>What happened to it</h2>
        <ul className="rows">
          {sheet.entries.map((e) => (
            <li key={e.id} className="py-1">
              <b>{e.what}</b> <At at={e.at} />
              {e.who && ` by ${e.who}`}
              {e.note && <span className="text-second"> · {e.note}</span>}
            </li>
          ))}
        </ul>
      </section>
      <Told alarm={a.id} />
      <section className="mt-4">
        <h2>
          Before{" "}
          <span>
            ·{" "}
            {sheet.earlier_count
              ? `${counted(sheet.earlier_count, "alarm")} of this condition here`
              : "the first of this condition here"}
            {sheet.shelves > 0 && `, shelved ${counted(sheet.shelves, "time")}`}
          </span>
        </h2>
        <ul className="rows">
          {sheet.earlier.map(({ alarm: e, notes }) => (
            <li key={e.id} className="py-1">
              <Link className="hover:underline" to={kept("/alarms", { alarm: String(e.id) })}>
                <At at={e.raised_at} />
              </Link>{" "}
              <span className="text-second">
                {e.cleared_at
                  ? `lasted ${lasting((Date.parse(e.cleared_at) - Date.parse(e.raised_at)) / 1000)}`
                  : "open"}
                {e.acknowledged_by ? `, taken by ${e.acknowledged_by}` : ", taken by nobody"}
              </span>
              {notes.map((n) => (
                <div key={n.id} className="pl-4">
                  “{n.note}” <span className="text-[12.5px] text-second">{n.who}</span>
                </div>
              ))}
            </li>
          ))}
        </ul>
      </section>
    </>
  );
}

/** Who was told of an alarm, and when it reached them. */
function Told({ alarm }: { alarm: number }) {
  const found = useQuery(ofDeliveries({ alarm, limit: 20 }));
  if (!found.data?.count) return null;
  return (
    <section className="mt-4" aria-label="Who was told">
      <h2>Who was told</h2>
      <ul className="rows">
        {[...found.data.results].reverse().map((d) => (
          <li key={d.id} className="py-1">
            <b>{d.contact ?? d.to}</b> by {d.outlet}: {d.what},{" "}
            {d.state === "delivered" && d.sent_at ? (
              <>
                reached <At at={d.sent_at} />
              </>
            ) : d.state === "waiting" ? (
              <>
                waits until <At at={d.next_at} />
              </>
            ) : d.state === "expired" ? (
              "not delivered"
            ) : (
              d.state
            )}
            {d.why && <span className="text-second"> · {d.why}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}
