import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { At, Trouble } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Pick } from "../../parts/filters";
import { useKeys } from "../../parts/keys";
import { look } from "../../parts/look";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { lasting } from "../../parts/time";
import { unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import type { useAsked } from "./asked";
import type { useDraft } from "./draft";
import { Figure } from "./figure";
import { type Incident, useIncidents } from "./incidents";
import { type Row, TrialBars } from "./trial-bars";

export type Trial = Schemas["ConditionTrialOut"] & { from: string; to: string };
const DAY = 86_400;
const FIRST = 40;

const SORTS: [string, string, (a: Row, b: Row) => number][] = [
  ["raised", "most alarms first", (a, b) => b.raised - a.raised || b.in_alarm_s - a.in_alarm_s],
  ["in alarm", "longest in alarm first", (a, b) => b.in_alarm_s - a.in_alarm_s],
  ["back", "most often back first", (a, b) => b.again - a.again || b.raised - a.raised],
  ["changed", "most changed first", (a, b) => changes(b) - changes(a) || b.raised - a.raised],
];
const changes = (row: Row) => row.gone.length + row.spans.filter((s) => s.against && s.against !== "same").length;

/** What the draft would have raised over the stored past: a row a device, held against the version in force. */
export function ConditionTrialPart({
  draft,
  trial,
  days,
  setDays,
  by,
  byItself,
  choose,
  live,
  operator,
  suggestion,
}: {
  draft: ReturnType<typeof useDraft>;
  trial: ReturnType<typeof useAsked<Trial>>;
  days: number;
  setDays: (days: number) => void;
  by: { run: () => void; stop: () => void };
  byItself: boolean;
  choose: (device: string) => void;
  live: number | null;
  operator: boolean;
  suggestion: React.ReactNode;
}) {
  const id = draft.definition.data?.id ?? 0;
  const lookback = useLookback();
  const kept = useKept();
  const found = trial.data;
  const first = draft.errors[0];
  const incidents = useIncidents(id);
  const [sort, setSort] = useState(SORTS[0]?.[0] ?? "");
  const [most, setMost] = useState(FIRST);
  const [bar, setBar] = useState(0);
  const order = SORTS.find(([name]) => name === sort)?.[2];
  const rows = [...(found?.rows ?? [])].sort(order);
  const shown = rows.slice(0, most);
  const chosen = useChosen(shown, (r) => r.device, trial.isPlaceholderData ? null : `${sort} ${found?.to}`);
  const row = chosen.current;
  const spans = row?.spans ?? [];
  const at = Math.min(bar, spans.length - 1);
  const span = spans[at];
  const device = row?.device;
  useEffect(() => {
    if (device) choose(device);
    setBar(Math.max((found?.rows.find((r) => r.device === device)?.spans.length ?? 1) - 1, 0));
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [device]);
  const [begin, end] = span && found ? [Date.parse(span.raised_at), Date.parse(span.cleared_at ?? found.to)] : [0, 0];
  const marked = span && device ? incidents.on(device, begin, end) : undefined;
  const mark = (real: boolean) => {
    if (!span || !device || !operator) return;
    if (marked && marked.real === real) return incidents.forget.mutate(marked.id);
    incidents.mark.mutate({
      device,
      begin: span.raised_at,
      end: new Date(Math.min(end, Date.now())).toISOString(),
      real,
      note: "",
    });
  };
  const around = () => {
    if (!span) return;
    const wide = Math.min(Math.max((end - begin) * 4, 6 * 3_600_000), 7 * DAY * 1000);
    lookback.set({ spanS: wide / 1000, to: new Date(Math.min((begin + end) / 2 + wide / 2, Date.now())) });
  };
  useKeys(
    {
      ArrowDown: () => chosen.walk(1),
      ArrowUp: () => chosen.walk(-1),
      ArrowRight: () => setBar(Math.min(at + 1, spans.length - 1)),
      ArrowLeft: () => setBar(Math.max(at - 1, 0)),
      r: () => mark(true),
      f: () => mark(false),
      Enter: around,
    },
    Boolean(found),
  );
  const word = found?.subjects === "sites" ? "site" : "device";
  const said = judged(found, incidents.all);
  return (
    <section className="condition-trial" aria-label="Trial">
      <div className="flex flex-wrap items-baseline gap-x-7 gap-y-1">
        <div className="flex items-center gap-2">
          <h2 title={byItself ? "goes again with every change" : "goes again with Run"}>Trial</h2>
          <Pick
            label="How far back"
            value={days}
            options={[
              [1, "the last day"],
              [7, "the last 7 days"],
              [30, "the last 30 days"],
            ]}
            onChange={(text) => setDays(Number(text))}
          />
          {trial.isFetching ? (
            <>
              <progress max={trial.at?.total || 1} value={trial.at?.done ?? 0} aria-label="how far the trial is" />
              <button type="button" className="link" onClick={by.stop}>
                stop
              </button>
            </>
          ) : (
            <button type="button" className="button small" disabled={Boolean(first) || !draft.sound} onClick={by.run}>
              {first ? `Waits for line ${first.line}` : "Run"}
            </button>
          )}
        </div>
        {found && (
          <>
            <Figure n={found.raised} word="raised" strong />
            <Figure n={found.devices_raised} word={`of ${counted(found.devices, word)}`} />
            <Figure n={found.still_open} word="open now" strong={found.still_open > 0} />
            {found.median_s !== null && <Words strong={lasting(found.median_s)} rest="as a rule" />}
            {live !== null && (
              <Words
                strong={found.against ? difference(found.against) : "as"}
                rest={found.against ? `against version ${live}` : `version ${live}`}
              />
            )}
            {said.real > 0 && <Words strong={`${said.caught} of ${said.real}`} rest="marked as real are caught" />}
            {said.not > 0 && <Words strong={`${said.anyway} of ${said.not}`} rest="marked as not real are raised" />}
            {said.outside > 0 && <span className="text-[12.5px] text-second">{said.outside} marked lie outside</span>}
          </>
        )}
        {suggestion}
      </div>
      <span className="sr-only" role="status">
        {found && !trial.isPlaceholderData && `${found.messages.toLocaleString("en")} messages were looked at`}
      </span>
      {trial.error && !(trial.error instanceof DOMException) ? <Trouble error={trial.error} /> : null}
      <Trouble error={incidents.error} />
      {found && rows.length > 0 && (
        <div className="trial-rows desk-scroll" aria-busy={trial.isPlaceholderData}>
          <div role="grid" aria-label="Alarms of the trial" className={trial.isPlaceholderData ? "opacity-60" : ""}>
            <div role="row" className="trial-row trial-head">
              <span role="columnheader">{word}</span>
              <span role="columnheader" className="text-right">
                limit{found.unit ? `, ${unitOf(found.unit)}` : ""}
              </span>
              <SortHead name="raised" {...{ sort, setSort }} />
              <SortHead name="in alarm" {...{ sort, setSort }} />
              <SortHead name="back" {...{ sort, setSort }} title="raised again within an hour of being cleared" />
              <span role="columnheader" className="flex justify-between pl-3">
                <At at={found.from} />
                <At at={found.to} />
              </span>
              <span role="columnheader" className="text-right">
                people said
              </span>
            </div>
            {shown.map((r) => (
              <div {...chosen.row(r)} key={r.device} className={look("trial-row", r === row ? "is-selected" : "")}>
                <span role="gridcell" className="truncate pl-2.5 font-semibold" title={r.device}>
                  {r.title}
                </span>
                <span role="gridcell" className={`text-right ${r.own_limit ? "font-bold" : ""}`}>
                  {r.limit ?? "–"}
                  {r.own_limit && <span className="sr-only"> of its own</span>}
                </span>
                <span role="gridcell" className="text-right">
                  {r.raised}
                </span>
                <span role="gridcell" className="text-right">
                  {lasting(r.in_alarm_s)}
                </span>
                <span role="gridcell" className="text-right text-second">
                  {r.again || ""}
                </span>
                <span role="gridcell" className="pl-3">
                  <TrialBars
                    row={r}
                    from={Date.parse(found.from)}
                    to={Date.parse(found.to)}
                    bar={r === row ? at : null}
                    pick={(n) => {
                      chosen.choose(r);
                      window.setTimeout(() => setBar(n));
                    }}
                    incidents={incidents.all.filter((i) => i.device === r.device)}
                  />
                </span>
                <span role="gridcell" className="truncate pr-2 text-right text-[12.5px] text-second">
                  {spoken(incidents.all.filter((i) => i.device === r.device))}
                </span>
              </div>
            ))}
          </div>
          {rows.length > shown.length && (
            <button type="button" className="link my-1" onClick={() => setMost(most + 100)}>
              {Math.min(100, rows.length - shown.length)} more of {found.rows_in_all}
            </button>
          )}
          {found.never_in_all > 0 && (
            <p className="py-1 text-[12.5px] text-second">
              Never raised for {counted(found.never_in_all, word)}: {found.never.slice(0, 12).join(", ")}
              {found.never_in_all > 12 ? ", …" : ""}.
            </p>
          )}
        </div>
      )}
      {found && rows.length === 0 && (
        <p className="py-2">
          <b>Nothing would have been raised</b> for {counted(found.devices, word)} in these{" "}
          {days === 1 ? "24 hours" : `${days} days`}.
        </p>
      )}
      {span && device && (
        <p className="trial-foot" aria-label="The chosen alarm">
          <b>{row?.title}</b>, <At at={span.raised_at} />,{" "}
          {span.cleared_at ? `for ${lasting((end - begin) / 1000)}` : "still open"}
          {span.value !== null && span.limit !== null && (
            <>
              : {Number(span.value.toPrecision(4))} against {Number(span.limit.toPrecision(4))} {unitOf(span.unit)}
            </>
          )}
          {span.against && span.against !== "same" && (
            <> · {span.against === "new" ? "new with this draft" : "changed"}</>
          )}
          {" · "}
          <button type="button" className="link" onClick={around}>
            the curve around it
          </button>{" "}
          <Key>Enter</Key>
          {span.message && (
            <>
              {" "}
              <Link className="link" to={kept("/arrivals", { message: span.message })}>
                its message
              </Link>
            </>
          )}
          {operator && (
            <>
              {" · "}
              <button type="button" className="link" aria-pressed={marked?.real === true} onClick={() => mark(true)}>
                {marked?.real === true ? "✓ was real" : "was real"}
              </button>{" "}
              <Key>R</Key>{" "}
              <button type="button" className="link" aria-pressed={marked?.real === false} onClick={() => mark(false)}>
                {marked?.real === false ? "✗ was not" : "was not"}
              </button>{" "}
              <Key>F</Key>
            </>
          )}
        </p>
      )}
    </section>
  );
}

const Words = ({ strong, rest }: { strong: string; rest: string }) => (
  <span className="text-[12.5px] text-second">
    <b className="text-[15px] text-ink">{strong}</b> {rest}
  </span>
);

function SortHead({
  name,
  sort,
  setSort,
  title,
}: {
  name: string;
  sort: string;
  setSort: (name: string) => void;
  title?: string;
}) {
  const about = title ?? SORTS.find(([n]) => n === name)?.[1];
  return (
    <span role="columnheader" className="text-right" aria-sort={sort === name ? "descending" : "none"}>
      <button
        type="button"
        className={`${sort === name ? "font-bold text-ink" : ""} min-h-6`}
        title={about}
        onClick={() => setSort(name)}
      >
        {name}
        {sort === name ? " ↓" : ""}
      </button>
    </span>
  );
}

function difference(a: NonNullable<Trial["against"]>): string {
  const said = [a.new && `+${a.new} new`, a.gone && `−${a.gone} gone`, a.changed && `${a.changed} changed`].filter(
    Boolean,
  );
  return said.length ? said.join(", ") : "the same";
}

/** How the draft does on what people know, also where they said it since the trial. */
function judged(found: Trial | undefined, incidents: Incident[]) {
  const count = { real: 0, caught: 0, not: 0, anyway: 0, outside: 0 };
  if (!found) return count;
  const [from, to] = [Date.parse(found.from), Date.parse(found.to)];
  for (const one of incidents) {
    const [begin, end] = [Date.parse(one.begin), Date.parse(one.end)];
    const row = found.rows.find((r) => r.device === one.device);
    const meets = row?.spans.some(
      (s) => Date.parse(s.raised_at) <= end && (s.cleared_at ? Date.parse(s.cleared_at) : to) >= begin,
    );
    const raised = found.incidents.find((i) => i.id === one.id)?.raised || Boolean(meets);
    if (end < from || begin >= to) count.outside += 1;
    else if (one.real) {
      count.real += 1;
      count.caught += raised ? 1 : 0;
    } else {
      count.not += 1;
      count.anyway += raised ? 1 : 0;
    }
  }
  return count;
}

function spoken(own: Incident[]): string {
  const real = own.filter((i) => i.real).length;
  const not = own.length - real;
  const times = (n: number) => (n === 1 ? "" : n === 2 ? " twice" : ` ${n} times`);
  return [real && `real${times(real)}`, not && `not real${times(not)}`].filter(Boolean).join(", ");
}
