import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { count, ident, mark, oneOf, useAddress } from "../../parts/address";
import { Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Toggles } from "../../parts/filters";
import { useKeys, useNow } from "../../parts/keys";
import { useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Pages } from "../../parts/pages";
import { useWhy, whyAlarm } from "../../parts/why";
import { counted } from "../../parts/words";
import { useActs, type Alarm } from "./acts";
import { ActBox, type Asked } from "./boxes";
import { Journal } from "./journal";
import { Quality } from "./quality";
import { ofCauses, ofList, ofMembers } from "./queries";
import { AlarmRow, GroupRow, type Group } from "./row";
import { asked as asAsked, Filters, useSelection } from "./selection";
import { AlarmSheet, useAlarmSheet } from "./sheet";
import { Summary } from "./summary";

type Line = { key: string; group: Group | null; alarm: Alarm | null; within: boolean };
const SHOWS = ["open", "returned", "shelved", "suppressed", "all", "journal", "quality"] as const;
type Show = (typeof SHOWS)[number];
const ADDRESS = { show: oneOf(SHOWS, "open"), each: mark(false), offset: count, alarm: ident };
const PAGE = 60;
const NOTHING: Record<string, [string, string]> = {
  open: ["No alarm is open.", "The journal tells what was."],
  returned: ["Nothing went by itself in the lookback without somebody having taken it.", "Widen the lookback below."],
  shelved: ["Nothing is shelved.", "What is shelved calls nobody until its time is over, and waits here meanwhile."],
  suppressed: ["No silence was explained by that of a gateway in the lookback.", "Widen the lookback below."],
  all: ["No alarm in the lookback.", "Widen the lookback below."],
};

const lineOf = (alarm: Alarm, within = false): Line => ({ key: `a${alarm.id}`, group: null, alarm, within });
const idsOf = (line: Line) => line.group?.alarms ?? (line.alarm ? [line.alarm.id] : []);

export default function Alarms() {
  const [{ show: tab, each, offset, alarm: opened }, put] = useAddress(ADDRESS, { ends: "offset" });
  const lookback = useLookback();
  const now = useNow(5000);
  const operator = useMay("operator");
  const why = useWhy();
  const acts = useActs();
  const sheet = useAlarmSheet();
  const selection = useSelection();
  const [box, setBox] = useState<Asked | null>(null);
  const [marked, setMarked] = useState<Set<number>>(new Set());
  const [unfolded, setUnfolded] = useState<Set<string>>(new Set());
  const [apart, setApart] = useState<Set<string>>(new Set());
  const grouped = tab === "open" && !each;
  const listed = !["journal", "quality"].includes(tab);
  const query = { ...asAsked(selection), limit: PAGE, offset };
  const lines = useQuery({
    ...ofCauses(lookback, { ...query, ...(grouped ? {} : { offset: 0 }) }),
    placeholderData: keepPreviousData,
  });
  const flat = useQuery({
    ...ofList(lookback, { ...query, show: tab as "open" }),
    enabled: listed && !grouped,
    placeholderData: keepPreviousData,
  });
  const groups = (lines.data?.results ?? []).map((l) => l.group).filter((g) => g !== null);
  const wanted = groups.filter((g) => unfolded.has(g.key) || apart.has(g.key)).flatMap((g) => g.alarms.slice(0, 100));
  const members = useQuery({
    ...ofMembers(lookback, wanted),
    enabled: grouped && wanted.length > 0,
    placeholderData: keepPreviousData,
  });
  const known = new Map((members.data ?? []).map((a) => [a.id, a]));
  const below = (g: Group, within: boolean) =>
    g.alarms
      .map((id) => known.get(id))
      .filter((a) => a !== undefined)
      .map((a) => lineOf(a, within));
  const rows: Line[] = grouped
    ? (lines.data?.results ?? []).flatMap((l): Line[] => {
        if (l.alarm) return [lineOf(l.alarm)];
        if (!l.group) return [];
        if (apart.has(l.group.key)) return below(l.group, false);
        const head: Line = { key: `g${l.group.key}`, group: l.group, alarm: null, within: false };
        return unfolded.has(l.group.key) ? [head, ...below(l.group, true)] : [head];
      })
    : (flat.data?.results ?? []).map((a) => lineOf(a));
  const source = grouped ? lines : flat;
  const chosen = useChosen(rows, (l) => l.key, source.isPlaceholderData ? null : [tab, ...lookback.key].join());
  const current = chosen.current;
  const toggle = <T,>(set: Set<T>, things: T[]) => {
    const fresh = new Set(set);
    const all = things.every((t) => fresh.has(t));
    for (const t of things) {
      if (all) fresh.delete(t);
      else fresh.add(t);
    }
    return fresh;
  };
  const shownIds = new Set(rows.flatMap(idsOf));
  const chosenIds = [...marked].filter((id) => shownIds.has(id));
  const targets = chosenIds.length ? chosenIds : current ? idsOf(current) : [];
  const mark = (line: Line) => setMarked((old) => toggle(old, idsOf(line)));
  const enter = (line: Line) =>
    line.group ? setUnfolded((old) => toggle(old, [line.group?.key ?? ""])) : line.alarm && sheet(line.alarm.id);
  const able = operator && targets.length > 0;
  const run: typeof acts.run = (act, done) =>
    acts.run(act, () => {
      setMarked(new Set());
      done?.();
    });
  useKeys(
    {
      ArrowDown: () => chosen.walk(1),
      ArrowUp: () => chosen.walk(-1),
      Enter: () => current && enter(current),
      x: () => current && mark(current),
      a: () => able && run({ act: "acknowledge", alarms: targets }),
      s: () => able && (tab === "shelved" ? run({ act: "unshelve", alarms: targets }) : setBox(boxOf("shelve"))),
      i: () => able && setBox(boxOf("assign")),
      n: () => able && setBox(boxOf("note")),
      z: () => acts.undo(),
      w: () => current && why(whyAlarm(idsOf(current)[0] ?? 0)),
    },
    box === null && opened === null,
  );
  const boxOf = (what: Asked["what"]): Asked => ({ what, alarms: targets });
  const asOf = lookback.to ?? now;
  const counts = lines.data;
  const total = grouped ? (counts?.lines ?? 0) : (flat.data?.count ?? 0);
  return (
    <>
      <Heading
        title="Alarms"
        about={
          counts && (
            <>
              <b className="text-ink">{counts.count} open</b>, {counts.unacknowledged} that nobody has taken
            </>
          )
        }
      >
        <Toggles
          label="Show"
          value={tab}
          options={[
            ["open", "Open"],
            ["returned", <>Returned {counts ? counts.returned : ""}</>],
            ["shelved", <>Shelved {counts ? counts.shelved : ""}</>],
            ["suppressed", <>Explained {counts ? counts.suppressed : ""}</>],
            ["all", "In the lookback"],
            ["journal", "Journal"],
            ["quality", "Quality"],
          ]}
          onChange={(value) => {
            setMarked(new Set());
            put({ show: value });
          }}
        />
      </Heading>
      <Trouble
        error={source.error ?? members.error ?? (box ? null : acts.error)}
        {...(source.error ? { retry: () => void source.refetch() } : {})}
      />
      <p
        role="status"
        className={acts.last ? "mb-2 flex items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1" : ""}
      >
        {acts.last && (
          <>
            <span className="min-w-0 truncate">
              {acts.last.word}{" "}
              <b>
                {acts.last.alarms.length === 1 ? acts.last.alarms[0]?.text : counted(acts.last.alarms.length, "alarm")}
              </b>
              {acts.last.refused > 0 && `; ${acts.last.refused} could not be`}
            </span>
            <button type="button" className="link ml-auto shrink-0" onClick={acts.undo}>
              <Key>Z</Key> {acts.last.undo.act === "give back" ? "give it back" : "take it off the shelf"}
            </button>
          </>
        )}
      </p>
      {tab === "journal" && <Journal />}
      {tab === "quality" && <Quality />}
      {listed && (
        <>
          <Filters>
            {tab === "open" && (
              <Toggles
                label="Grouping"
                value={each ? "each" : "cause"}
                options={[
                  ["cause", "By cause"],
                  ["each", "One by one"],
                ]}
                onChange={(value) => put({ each: value === "each" })}
              />
            )}
          </Filters>
          <Bar
            tab={tab}
            many={chosenIds.length}
            able={able}
            acknowledge={() => run({ act: "acknowledge", alarms: targets })}
            unshelve={() => run({ act: "unshelve", alarms: targets })}
            ask={(what) => setBox(boxOf(what))}
            clear={() => setMarked(new Set())}
          />
          {source.isPending && <Waiting what="the alarms" />}
          {source.data && rows.length === 0 && (
            <Empty title={Object.keys(selection).length ? "No such alarm." : (NOTHING[tab]?.[0] ?? "")}>
              {Object.keys(selection).length ? "Choose fewer filters above." : NOTHING[tab]?.[1]}
            </Empty>
          )}
          <div className="rows" role="grid" aria-label="Alarms" aria-colcount={6} aria-multiselectable>
            {rows.map((line) =>
              line.group ? (
                <GroupRow
                  key={line.key}
                  group={line.group}
                  row={chosen.row(line)}
                  asOf={asOf}
                  marked={idsOf(line).every((id) => marked.has(id))}
                  mark={() => mark(line)}
                  unfolded={unfolded.has(line.group.key)}
                  unfold={() => enter(line)}
                >
                  <button
                    type="button"
                    className="link hidden whitespace-nowrap md:inline"
                    tabIndex={-1}
                    onClick={() => setApart((old) => toggle(old, [line.group?.key ?? ""]))}
                  >
                    take apart
                  </button>
                  {operator && line.group.unacknowledged > 0 && (
                    <button
                      type="button"
                      className="button"
                      tabIndex={-1}
                      onClick={() => run({ act: "acknowledge", alarms: idsOf(line) })}
                    >
                      Take all
                    </button>
                  )}
                </GroupRow>
              ) : (
                line.alarm && (
                  <AlarmRow
                    key={line.key}
                    alarm={line.alarm}
                    row={chosen.row(line)}
                    asOf={asOf}
                    marked={marked.has(line.alarm.id)}
                    mark={() => mark(line)}
                    open={() => enter(line)}
                    within={line.within}
                  >
                    {operator && !line.alarm.acknowledged_at && !line.alarm.suppressed && (
                      <button
                        type="button"
                        className="button"
                        tabIndex={-1}
                        onClick={() => run({ act: "acknowledge", alarms: idsOf(line) })}
                      >
                        Acknowledge
                      </button>
                    )}
                  </AlarmRow>
                )
              ),
            )}
          </div>
          {apart.size > 0 && grouped && (
            <button type="button" className="link mt-2" onClick={() => setApart(new Set())}>
              put together again what was taken apart
            </button>
          )}
          {total > PAGE && (
            <p className="mt-2 flex items-center justify-end gap-2 text-[12.5px] text-second">
              <Pages
                offset={offset}
                size={PAGE}
                count={total}
                go={(next) => put({ offset: next })}
                words={["Back", "On"]}
              />
            </p>
          )}
          {rows.length > 0 && <Hints operator={operator} tab={tab} />}
          {tab === "open" && <Summary />}
        </>
      )}
      <ActBox asked={box} close={() => setBox(null)} run={run} busy={acts.busy} error={acts.error} />
      <AlarmSheet acts={acts} ask={(what, id) => setBox({ what, alarms: [id] })} keys={box === null} />
    </>
  );
}

/** What can be done with the marked alarms. */
function Bar({
  tab,
  many,
  able,
  acknowledge,
  unshelve,
  ask,
  clear,
}: {
  tab: Show;
  many: number;
  able: boolean;
  acknowledge: () => void;
  unshelve: () => void;
  ask: (what: Asked["what"]) => void;
  clear: () => void;
}) {
  if (many === 0 || !able) return null;
  return (
    <div role="toolbar" aria-label="Marked alarms" className="mb-2 flex flex-wrap items-center gap-2">
      <b>{counted(many, "alarm")} marked</b>
      <button type="button" className="button" onClick={acknowledge}>
        Acknowledge <Key>A</Key>
      </button>
      {tab === "shelved" ? (
        <button type="button" className="button" onClick={unshelve}>
          Take off the shelf <Key>S</Key>
        </button>
      ) : (
        <button type="button" className="button" onClick={() => ask("shelve")}>
          Shelve <Key>S</Key>
        </button>
      )}
      <button type="button" className="button" onClick={() => ask("assign")}>
        Assign <Key>I</Key>
      </button>
      <button type="button" className="button" onClick={() => ask("note")}>
        Note <Key>N</Key>
      </button>
      <button type="button" className="link" onClick={clear}>
        none
      </button>
    </div>
  );
}

function Hints({ operator, tab }: { operator: boolean; tab: Show }) {
  const keys: [string, string][] = [
    ["Enter", "open"],
    ...(operator
      ? ([
          ["X", "mark"],
          ["A", "acknowledge"],
          ["S", tab === "shelved" ? "off the shelf" : "shelve"],
          ["I", "assign"],
          ["N", "note"],
        ] as [string, string][])
      : []),
    ["W", "why?"],
  ];
  return (
    <p className="mt-3 flex flex-wrap gap-4 text-[12.5px] text-second">
      <span className="keys">
        <Key>↑</Key> <Key>↓</Key> walk
      </span>
      {keys.map(([key, word]) => (
        <span key={key} className="keys">
          <Key>{key}</Key> {word}
        </span>
      ))}
      <span className="flex flex-wrap items-center gap-3 md:ml-auto">
        {["critical", "high", "medium", "low"].map((p) => (
          <span key={p} className="flex items-center gap-1">
            <PriorityMark priority={p} size={12} /> {p}
          </span>
        ))}
        <span className="flex items-center gap-1">
          <PriorityMark priority="high" taken={false} size={12} /> not taken
        </span>
      </span>
    </p>
  );
}
