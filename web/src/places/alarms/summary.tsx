import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { At, Trouble } from "../../parts/basics";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { PriorityMark } from "../../parts/marks";
import { Cell } from "../../parts/table";
import { counted } from "../../parts/words";
import { ofSummary } from "./queries";

const COLUMNS = [
  "row-line grid grid-cols-[28px_minmax(0,1fr)_minmax(0,1fr)] items-center gap-2",
  "md:grid-cols-[28px_minmax(0,1.2fr)_150px_minmax(0,1.3fr)_170px]",
].join(" ");

/** What the lookback held, by condition: which cries often, and on which device. */
export function Summary() {
  const lookback = useLookback();
  const kept = useKept();
  const summary = useQuery({ ...ofSummary(lookback), placeholderData: keepPreviousData });
  const rows = summary.data ?? [];
  return (
    <section className="mt-8">
      <h2 className="mb-1">
        Raised in {spanWord(lookback.spanS)} <span>· by condition, most often first</span>
      </h2>
      <Trouble error={summary.error} />
      {summary.data && rows.length === 0 && <p className="py-1 text-second">Nothing was raised.</p>}
      <div className="rows" role="table" aria-label="Raised by condition">
        {rows.map((r) => (
          <div role="row" key={r.definition} className={COLUMNS}>
            <Cell look="pl-2">
              <PriorityMark priority={r.priority} size={12} />
            </Cell>
            <Cell look="truncate">
              <Link className="font-semibold hover:underline" to={kept(`/conditions/${r.definition}`)}>
                {r.condition}
              </Link>
            </Cell>
            <Cell>
              <b>{r.raised}</b> on {counted(r.devices, "device")}
            </Cell>
            <Cell look="hidden truncate text-second md:block">
              {r.most_count >= 10
                ? `${r.most_device} alone ${r.most_count} times: widen its deadband?`
                : r.most_count > 1
                  ? `${r.most_device} most often, ${r.most_count} times`
                  : ""}
            </Cell>
            <Cell look="hidden text-right text-second md:block">
              last <At at={r.last_at} />
            </Cell>
          </div>
        ))}
      </div>
    </section>
  );
}
