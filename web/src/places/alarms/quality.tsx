import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { look } from "../../parts/look";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { PRIORITIES, PriorityMark } from "../../parts/marks";
import { Cell } from "../../parts/table";
import { lasting } from "../../parts/time";
import { ofQuality } from "./queries";

type Figures = Schemas["FiguresOut"];
type Row = {
  what: string;
  about: string;
  of: (f: Figures) => string;
  size: (f: Figures) => number;
  wanted: string;
  beyond?: (f: Figures) => boolean;
};

const number = (n: number) => n.toLocaleString("en", { maximumFractionDigits: n < 10 ? 1 : 0 });
const percent = (n: number) => `${(n * 100).toLocaleString("en", { maximumFractionDigits: n < 0.1 ? 1 : 0 })} %`;
const time = (s: number | null | undefined) => (typeof s === "number" ? lasting(s) : "–");

/** What is counted, and the figure that IEC 62682 and ANSI/ISA-18.2 recommend where they do. */
const ROWS: Row[] = [
  {
    what: "Alarms an hour and a person",
    about: "raised in the span, divided by those who may take alarms",
    of: (f) => number(f.per_hour_a_person),
    size: (f) => f.per_hour_a_person,
    wanted: "6 or fewer; 12 at most",
    beyond: (f) => f.per_hour_a_person > 12,
  },
  {
    what: "Most in ten minutes",
    about: "the highest number in any ten minutes",
    of: (f) => String(f.peak),
    size: (f) => f.peak,
    wanted: "10 or fewer",
    beyond: (f) => f.peak > 10,
  },
  {
    what: "Share of time in flood",
    about: "from ten minutes with more than ten alarms to ten with fewer than five",
    of: (f) => percent(f.flood_share),
    size: (f) => f.flood_share,
    wanted: "below 1 %",
    beyond: (f) => f.flood_share >= 0.01,
  },
  {
    what: "Chattering",
    about: "conditions on devices raised three times or more within a minute",
    of: (f) => String(f.chattering),
    size: (f) => f.chattering,
    wanted: "none",
    beyond: (f) => f.chattering > 0,
  },
  {
    what: "Fleeting",
    about: "gone within a minute, taken by nobody",
    of: (f) => number(f.fleeting),
    size: (f) => f.fleeting,
    wanted: "none",
    beyond: (f) => f.fleeting > 0,
  },
  {
    what: "Stale",
    about: "open for more than a day",
    of: (f) => number(f.stale),
    size: (f) => f.stale,
    wanted: "fewer than 5",
    beyond: (f) => f.stale >= 5,
  },
  {
    what: "Until taken",
    about: "half of them within the first figure, nine of ten within the second",
    of: (f) => `${time(f.taking_median_s)} / ${time(f.taking_most_s)}`,
    size: (f) => f.taking_median_s ?? 0,
    wanted: "",
  },
  {
    what: "Until cleared",
    about: "half of them within the first figure, nine of ten within the second",
    of: (f) => `${time(f.lasting_median_s)} / ${time(f.lasting_most_s)}`,
    size: (f) => f.lasting_median_s ?? 0,
    wanted: "",
  },
  {
    what: "Shelved",
    about: "how often something was put aside",
    of: (f) => String(f.shelved),
    size: (f) => f.shelved,
    wanted: "",
  },
];
const WANTED: Record<string, string> = {
  critical: "below 1 %",
  high: "about 5 %",
  medium: "about 15 %",
  low: "about 80 %",
};
const COLUMNS = look(
  "row-line grid grid-cols-[minmax(0,1fr)_90px_90px] items-center gap-3",
  "md:grid-cols-[minmax(0,1fr)_85px_85px_130px]",
);
const WORST = look(
  "row-line grid grid-cols-[minmax(0,1fr)_60px_60px] items-center gap-3",
  "md:grid-cols-[minmax(0,1fr)_90px_40px_50px]",
);

/** How much the alarms of the lookback deserve to be trusted. */
export function Quality() {
  const lookback = useLookback();
  const kept = useKept();
  const quality = useQuery({ ...ofQuality(lookback), placeholderData: keepPreviousData });
  if (quality.isPending) return <Waiting what="the quality of the alarms" />;
  if (!quality.data) return <Trouble error={quality.error} retry={() => void quality.refetch()} />;
  const { now, before, conditions, devices, worst_share, people } = quality.data;
  if (now.count + before.count + now.stale === 0)
    return <Empty title="No alarm in the lookback, and none in the span before.">Widen the lookback below.</Empty>;
  const all = Math.max(now.count, 1);
  return (
    <div className="grid gap-x-10 gap-y-6 xl:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
      <section aria-label="Figures">
        <p className="mb-2 max-w-3xl">
          <b>{number(now.count)} alarms</b> in {spanWord(lookback.spanS)}, {number(before.count)} before;{" "}
          {people === 1 ? "one person" : `${people} people`} may take them.
        </p>
        <div role="table" aria-label="Figures of the alarms" className="rows">
          <div role="row" className={`${COLUMNS} text-[12.5px] text-second`}>
            <span role="columnheader">figure</span>
            <span role="columnheader" className="text-right">
              now
            </span>
            <span role="columnheader" className="text-right">
              before
            </span>
            <span role="columnheader" className="hidden md:block">
              recommended
            </span>
          </div>
          {ROWS.map((r) => (
            <div key={r.what} role="row" className={COLUMNS}>
              <Cell>
                <span className="font-semibold">{r.what}</span>
                <div className="text-[12.5px] text-second">{r.about}</div>
              </Cell>
              <Cell look={`text-right ${r.beyond?.(now) ? "font-bold" : ""}`}>
                {r.beyond?.(now) && <span aria-hidden>! </span>}
                {r.of(now)}
                {r.size(now) > r.size(before) * 1.25 && r.size(before) > 0 && (
                  <div className="text-[12.5px] font-normal text-second">more than before</div>
                )}
              </Cell>
              <Cell look="text-right text-second">{r.of(before)}</Cell>
              <Cell look="hidden text-second md:block">
                {r.wanted}
                {r.beyond?.(now) && <div className="font-bold text-ink">beyond</div>}
              </Cell>
            </div>
          ))}
          {PRIORITIES.map((p) => (
            <div key={p} role="row" className={COLUMNS}>
              <Cell look="flex items-center gap-2">
                <PriorityMark priority={p} size={12} /> {p}
              </Cell>
              <Cell look="text-right">{percent((now.priorities[p] ?? 0) / all)}</Cell>
              <Cell look="text-right text-second">
                {percent((before.priorities[p] ?? 0) / Math.max(before.count, 1))}
              </Cell>
              <Cell look="hidden text-second md:block">{WANTED[p]}</Cell>
            </div>
          ))}
        </div>
        <p className="mt-2 max-w-3xl text-[12.5px] text-second">
          Recommended figures are those of IEC 62682 and ANSI/ISA-18.2 for one person at a desk.{" "}
          {now.peak_at && (
            <>
              The most in ten minutes came from <At at={now.peak_at} /> on.
            </>
          )}
        </p>
      </section>
      <div className="grid content-start gap-6">
        <Worst
          title="The ten worst conditions"
          about={`${percent(worst_share)} of all alarms; recommended: 5 % or less`}
          rows={conditions}
          link={(key) => kept(`/conditions/${key}`)}
        />
        <Worst
          title="The ten worst devices"
          about="each with its share of all alarms"
          rows={devices}
          link={(key) => kept(`/devices/${key}`)}
        />
      </div>
    </div>
  );
}

function Worst({
  title,
  about,
  rows,
  link,
}: {
  title: string;
  about: string;
  rows: Schemas["WorstOut"][];
  link: (key: string) => string;
}) {
  const most = Math.max(...rows.map((r) => r.count), 1);
  return (
    <section>
      <h2 className="mb-1">
        {title} <span>· {about}</span>
      </h2>
      <div role="table" aria-label={title} className="rows">
        {rows.map((r) => (
          <div key={r.key} role="row" className={WORST}>
            <Cell look="truncate">
              <Link className="font-semibold hover:underline" to={link(r.key)}>
                {r.title}
              </Link>
              {r.chatters && <span className="text-second"> · chatters</span>}
            </Cell>
            <Cell look="hidden md:block">
              <span aria-hidden className="block h-2 bg-edge" style={{ width: `${(100 * r.count) / most}%` }} />
            </Cell>
            <Cell look="text-right">{r.count}</Cell>
            <Cell look="text-right text-second">{percent(r.share)}</Cell>
          </div>
        ))}
      </div>
    </section>
  );
}
