import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { At, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Curve } from "../../parts/curve";
import { useKeys } from "../../parts/keys";
import { useKept, useLookback } from "../../parts/lookback-state";
import { look } from "../../parts/look";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { useActs } from "../alarms/acts";
import { MOST_LINES, ofCurve, ofLines } from "./queries";

type Line = Schemas["LineOut"];
const COLUMNS = look(
  "grid grid-cols-[20px_minmax(0,1fr)_auto] items-center gap-x-2 py-1.5 pl-2",
  "md:grid-cols-[20px_minmax(0,1fr)_90px_132px_70px]",
);
const keyOf = (line: Line) => (line.group ? line.group.key : `a${line.alarm?.id}`);
const alarmsOf = (line: Line) => line.group?.alarms ?? (line.alarm ? [line.alarm.id] : []);
const untaken = (line: Line) => (line.group ? line.group.unacknowledged > 0 : !line.alarm?.acknowledged_at);

/** The course of the value that an alarm is about. */
function Course({ device, field }: { device: string; field: string }) {
  const found = useQuery(ofCurve(useLookback(), device, field)).data?.fields[0];
  return found ? <Curve values={found.v} times={found.t} height={26} /> : <span />;
}

/** Open alarms by cause, the worst first, each with its curve and the next act. */
export function Hand() {
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const operator = useMay("operator");
  const acts = useActs();
  const found = useQuery(ofLines(lookback, MOST_LINES));
  const lines = found.data?.results ?? [];
  const chosen = useChosen(lines, keyOf, found.isPlaceholderData ? null : "hand");
  const target = (line: Line) =>
    line.alarm ? kept("/alarms", { alarm: String(line.alarm.id) }) : kept("/alarms", { open: line.group?.key ?? "" });
  const take = (line: Line | undefined) => {
    if (line && operator && lookback.live && untaken(line)) acts.run({ act: "acknowledge", alarms: alarmsOf(line) });
  };
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    a: () => take(chosen.current),
    z: () => acts.last && acts.undo(),
    Enter: () => {
      const line = chosen.current;
      if (line && document.activeElement?.getAttribute("role") === "row") void navigate(target(line));
    },
  });
  return (
    <section aria-label="Needs a hand">
      <h2 className="mb-1">
        Needs a hand <span>· by cause, worst first</span>
      </h2>
      <Trouble error={found.error ?? acts.error} />
      {!found.data && !found.error && <Waiting what="the alarms" />}
      {found.data && lines.length === 0 && <p className="py-2 text-second">Nothing does: no alarm is open.</p>}
      <div className="rows border-b border-line" role="grid" aria-label="Open alarms by cause">
        {lines.map((line) => {
          const { alarm: a, group: g } = line;
          const who = a?.assigned_to ?? a?.acknowledged_by ?? null;
          return (
            <div
              key={keyOf(line)}
              {...chosen.row(line)}
              className={look(COLUMNS, line === chosen.current ? "is-selected" : "")}
            >
              <span role="gridcell">
                <PriorityMark priority={(g ?? a)?.priority ?? "low"} taken={!untaken(line)} />
              </span>
              <div role="gridcell" className={`min-w-0 ${a?.device && a.field ? "" : "md:col-span-2"}`}>
                <Link
                  to={target(line)}
                  tabIndex={-1}
                  className={`block truncate hover:underline ${untaken(line) ? "font-bold" : "font-semibold"}`}
                >
                  {g ? `${g.title}: ${counted(g.devices, "device")} at ${g.where}` : a?.text}
                </Link>
                <div className="truncate text-[12.5px] text-second">
                  {g ? `${g.priority} · ${g.why}` : `${a?.priority} · ${a?.condition}, ${a?.site_title ?? "no site"}`}
                </div>
              </div>
              {a?.device && a.field && (
                <div role="gridcell" className="hidden md:block">
                  <Course device={a.device} field={a.field} />
                </div>
              )}
              <div role="gridcell" className="hidden text-right text-[12.5px] leading-tight text-second md:block">
                <div className="whitespace-nowrap">
                  since <At at={(g ? g.since : a?.raised_at) ?? null} />
                </div>
                <div className={untaken(line) ? "font-bold text-ink" : "truncate"}>
                  {g
                    ? g.unacknowledged
                      ? `${g.unacknowledged} not taken`
                      : "all taken"
                    : untaken(line)
                      ? "nobody has it"
                      : who}
                </div>
              </div>
              <div role="gridcell" className="pr-1 text-right">
                {operator && lookback.live && untaken(line) && (
                  <button
                    type="button"
                    className="button small"
                    tabIndex={-1}
                    disabled={acts.busy}
                    onClick={() => take(line)}
                  >
                    {g ? "Take all" : "Take"}
                  </button>
                )}
              </div>
            </div>
          );
        })}
      </div>
      <div className="mt-1 flex flex-wrap items-center gap-x-3 text-[12.5px] text-second">
        {acts.last ? (
          <span role="status">
            {acts.last.word} {counted(acts.last.alarms.length, "alarm")}.{" "}
            <button type="button" className="link" onClick={acts.undo}>
              give back
            </button>
          </span>
        ) : (
          lines.length > 0 && (
            <span className="hidden md:inline">
              <Key>↑↓</Key> walk {operator && <Key>A</Key>}
              {operator && " take"} <Key>Enter</Key> open
            </span>
          )
        )}
        {found.data && found.data.lines > MOST_LINES && (
          <Link className="link ml-auto" to={kept("/alarms")}>
            all {found.data.lines} lines
          </Link>
        )}
      </div>
    </section>
  );
}
