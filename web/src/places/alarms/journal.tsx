import { keepPreviousData, useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../../api/client";
import { ofColleagues } from "../../api/queries";
import { useAddress, word } from "../../parts/address";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { useLookback } from "../../parts/lookback-state";
import { PriorityMark } from "../../parts/marks";
import { Pages } from "../../parts/pages";
import { Subject } from "../../parts/subject";
import { Cell } from "../../parts/table";
import { unitOf } from "../../parts/units";
import { useWhy, whyAlarm } from "../../parts/why";
import { ofJournal } from "./queries";

const COLUMNS = [
  "row-line grid grid-cols-[110px_100px_minmax(0,1fr)] items-center gap-2",
  "md:grid-cols-[90px_90px_24px_minmax(0,1fr)_auto_50px]",
].join(" ");

const WHATS: [string, string][] = [
  ["", "everything"],
  ["raised,cleared,priority changed", "raised and cleared"],
  ["acknowledged,given back,assigned,noted", "what people did"],
  ["shelved,off the shelf", "shelves"],
  ["suppressed", "explained"],
];

const ADDRESS = { q: word, what: word, by: word };

/** What happened to alarms, with filters, and the same as a table for other programs. */
export function Journal() {
  const lookback = useLookback();
  const why = useWhy();
  const [{ q, what, by }, put] = useAddress(ADDRESS);
  const people = useQuery(ofColleagues());
  const [offset, setOffset] = useState(0);
  const own = { q, what, person: by };
  const journal = useQuery({
    ...ofJournal(lookback, { limit: 60, offset, ...own }),
    placeholderData: keepPreviousData,
  });
  const narrow = (name: keyof typeof ADDRESS, value: string) => {
    setOffset(0);
    put({ [name]: value });
  };
  const file = new URLSearchParams({ ...own, ...lookback.query() });
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-2" role="search" aria-label="Which entries">
        <input
          className="input !w-52"
          type="search"
          aria-label="Search the journal"
          placeholder="words, a note …"
          value={own.q}
          onChange={(e) => narrow("q", e.target.value)}
        />
        <Pick label="What happened" value={own.what} options={WHATS} onChange={(v) => narrow("what", v)} />
        <Pick
          label="Who did it"
          value={own.person}
          options={[["", "by anybody"], ...(people.data ?? []).map((p): [string, string] => [p.username, p.name])]}
          onChange={(v) => narrow("by", v)}
        />
        <a className="link ml-auto" href={`/api/v1/journal/file?${file}`} download>
          as a table (CSV)
        </a>
      </div>
      <Entries journal={journal} why={why} offset={offset} setOffset={setOffset} />
    </>
  );
}

function Entries({
  journal,
  why,
  offset,
  setOffset,
}: {
  journal: UseQueryResult<Schemas["JournalPage"]>;
  why: ReturnType<typeof useWhy>;
  offset: number;
  setOffset: (offset: number) => void;
}) {
  if (journal.isPending) return <Waiting what="the journal" />;
  if (!journal.data) return <Trouble error={journal.error} />;
  const rows = journal.data.results;
  if (!rows.length) return <Empty title="Nothing of that happened in the lookback.">Widen it below.</Empty>;
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
              <Subject device={e.device} title={e.device_title} look="font-semibold" />{" "}
              <span className="text-second" title={e.sentence ?? undefined}>
                {e.condition}
              </span>
              {e.note && <span className="ml-2">“{e.note}”</span>}
              {e.sentence && <span className="text-second"> · {rule(e.sentence)}</span>}
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

/** The sentence of a condition without what it watches: that is told by the device. */
const rule = (sentence: string) => sentence.slice(Math.max(sentence.indexOf("Raised as"), 0));

/** Who it was, or at which value. */
function by(e: Schemas["EntryOut"]) {
  if (e.who) return `by ${e.who}`;
  return e.value === null ? "" : `at ${Number(e.value?.toPrecision(5))} ${unitOf(e.unit)}`;
}
