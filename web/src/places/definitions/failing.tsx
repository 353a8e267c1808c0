import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { named, useAddress, word } from "../../parts/address";
import { At, Trouble } from "../../parts/basics";
import { spanWord, useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";
import { ofFailing } from "./queries";

const SHOWN = 12;
const ADDRESS = { message: named, outcome: word };

/** What the decoder refuses in the lookback, by reason; each opens its last message here. */
export function Failing({ id }: { id: number }) {
  const lookback = useLookback();
  const [asked, put] = useAddress(ADDRESS);
  const [open, setOpen] = useState(false);
  const found = useQuery({
    ...ofFailing(lookback, id),
    refetchInterval: lookback.live ? 15_000 : false,
    placeholderData: (old) => old,
  });
  if (found.error) return <Trouble error={found.error} />;
  const first = found.data?.reasons[0];
  if (!found.data?.messages || !first) return null;
  const show = (example: string) => put({ message: example, outcome: "refused" });
  const rest = found.data.reasons.length - 1;
  return (
    <section aria-label="Refused messages" className="mb-2 border-l-3 border-ink bg-raised px-4 py-1">
      <div className="flex flex-wrap items-center gap-x-3 text-[13px]">
        <b>
          {counted(found.data.messages, "message")} of {counted(found.data.devices, "device")} refused
        </b>
        <span className="min-w-0 flex-1 truncate text-second">
          {lookback.live ? `last ${spanWord(lookback.spanS)}` : "in the lookback"}
          {!open && `, ${first.code}: ${first.reason}`}
        </span>
        {!open && (
          <button type="button" className="link" onClick={() => show(first.example)}>
            open the last one
          </button>
        )}
        {rest > 0 && (
          <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "fold" : `${counted(rest, "reason")} more`}
          </button>
        )}
      </div>
      {open && (
        <ul className="max-h-40 overflow-y-auto">
          {found.data.reasons.slice(0, SHOWN).map((r) => (
            <li
              key={`${r.code} ${r.reason} ${r.version}`}
              className="flex min-h-7 flex-wrap items-center gap-x-3 text-[13px]"
            >
              <b className="w-14 text-right">{r.messages.toLocaleString("en")}</b>
              <span>
                {r.code}: {r.reason}
              </span>
              <span className="text-second">
                {counted(r.devices, "device")}, last <At at={r.last_at} />
                {r.version !== null && `, version ${r.version}`}
                {r.line > 0 && `, line ${r.line}`}
              </span>
              <button
                type="button"
                className="link ml-auto"
                aria-pressed={asked.message === r.example}
                onClick={() => show(r.example)}
              >
                open the last one
              </button>
            </li>
          ))}
          {found.data.reasons.length > SHOWN && (
            <li className="text-[12.5px] text-second">and {found.data.reasons.length - SHOWN} more reasons</li>
          )}
        </ul>
      )}
    </section>
  );
}
