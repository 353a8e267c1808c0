import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { useKept, useLookback } from "../../parts/lookback-state";
import { PriorityMark } from "../../parts/marks";
import { Pages } from "../../parts/pages";
import { Cell } from "../../parts/table";
import { useWhy, whyAlarm } from "../../parts/why";
import { unitOf } from "../../parts/units";

const COLUMNS = [
  "row-line grid grid-cols-[110px_100px_minmax(0,1fr)] items-center gap-2",
  "md:grid-cols-[130px_110px_24px_minmax(0,1fr)_minmax(0,230px)_50px]",
].join(" ");

export function Journal() {
  const lookback = useLookback();
  const kept = useKept();
  const why = useWhy();
  const [offset, setOffset] = useState(0);
  const journal = useQuery({
    queryKey: ["journal", offset, ...lookback.key],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/journal", { signal, params: { query: { limit: 60, offset, ...lookback.query() } } })),
    placeholderData: keepPreviousData,
  });
  if (journal.isPending) return <Waiting what="the journal" />;
  if (!journal.data) return <Trouble error={journal.error} />;
  const rows = journal.data.results;
  if (!rows.length) return <Empty title="Nothing happened in the lookback.">Widen it below.</Empty>;
  return (
    <>
      <div className="rows" role="table" aria-label="Journal">
        {rows.map((e) => (
          <div role="row" key={e.id} className={COLUMNS}>
            <Cell look="font-mono text-[12.5px]">
              <At at={e.at} />
            </Cell>
            <Cell look={e.what === "raised" ? "font-bold" : ""}>{e.what}</Cell>
            <Cell look="hidden md:block">
              <PriorityMark priority={e.priority} size={12} />
            </Cell>
            <Cell look="truncate">
              <Link className="font-semibold hover:underline" to={kept(`/devices/${e.device}`)}>
                {e.device_title}
              </Link>{" "}
              <span className="text-second">{e.condition}</span>
              {e.note && <span className="ml-2">“{e.note}”</span>}
            </Cell>
            <Cell look="hidden truncate text-right text-second md:block">{by(e)}</Cell>
            <Cell look="hidden text-right md:block">
              <button type="button" className="link" onClick={() => why(whyAlarm(e.alarm))}>
                why?
              </button>
            </Cell>
          </div>
        ))}
      </div>
      <p className="mt-2 flex items-center justify-end gap-2 text-[12.5px] text-second">
        <Pages offset={offset} size={60} count={journal.data.count} go={setOffset} words={["Newer", "Older"]} />
      </p>
    </>
  );
}

/** Who it was, or at which value. */
function by(e: Schemas["EntryOut"]) {
  if (e.who) return `by ${e.who}`;
  return e.value === null ? "" : `at ${Number(e.value?.toPrecision(5))} ${unitOf(e.unit)}`;
}
