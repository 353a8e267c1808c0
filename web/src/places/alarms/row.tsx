import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { At } from "../../parts/basics";
import type { useChosen } from "../../parts/chosen";
import { useKept } from "../../parts/lookback-state";
import { look } from "../../parts/look";
import { PriorityMark } from "../../parts/marks";
import { Subject } from "../../parts/subject";
import { exact, lasting } from "../../parts/time";
import { counted } from "../../parts/words";
import { stateOf, type Alarm } from "./acts";

export type Group = Schemas["GroupOut"];
type Row = ReturnType<ReturnType<typeof useChosen<unknown>>["row"]>;

const COLUMNS = look(
  "grid grid-cols-[28px_20px_minmax(0,1fr)_auto] items-center gap-x-2 py-1",
  "md:grid-cols-[28px_20px_minmax(0,1fr)_130px_170px_175px]",
);

function Mark({ on, toggle, label }: { on: boolean; toggle: () => void; label: string }) {
  return (
    <span role="gridcell">
      <label className="flex h-8 w-7 cursor-pointer items-center justify-center">
        <input type="checkbox" tabIndex={-1} checked={on} onChange={toggle} aria-label={`Mark ${label}`} />
      </label>
    </span>
  );
}

/** An alarm: what it says, where, since when, in which state, and who has it. */
export function AlarmRow({
  alarm: a,
  row,
  asOf,
  marked,
  mark,
  open,
  within = false,
  children,
}: {
  alarm: Alarm;
  row: Row;
  asOf: Date;
  marked: boolean;
  mark: () => void;
  open: () => void;
  within?: boolean;
  children?: React.ReactNode;
}) {
  const kept = useKept();
  const until = a.cleared_at ? new Date(a.cleared_at) : asOf;
  const length = lasting((until.getTime() - new Date(a.raised_at).getTime()) / 1000);
  const state = stateOf(a);
  const who = a.assigned_to ? `with ${a.assigned_to}` : a.acknowledged_by ? `taken by ${a.acknowledged_by}` : "";
  return (
    <div
      {...row}
      className={look(COLUMNS, `${row["aria-selected"] ? "is-selected" : ""}`, within ? "md:pl-6" : "")}
      data-alarm={a.id}
    >
      <Mark on={marked} toggle={mark} label={a.text} />
      <span role="gridcell">
        <PriorityMark priority={a.priority} taken={Boolean(a.acknowledged_at)} />
      </span>
      <div role="gridcell" className="min-w-0">
        <button
          type="button"
          tabIndex={-1}
          className={`block max-w-full text-left hover:underline md:truncate ${a.acknowledged_at ? "" : "font-bold"}`}
          onClick={open}
        >
          {a.text}
        </button>
        <div className="text-[12.5px] text-second md:truncate">
          {a.priority} ·{" "}
          <Link className="hover:underline" to={kept(`/conditions/${a.definition}`)} tabIndex={-1}>
            {a.condition}
          </Link>{" "}
          · <Subject device={a.device} title={a.device_title} />
          {a.device !== null && `, ${a.site_title ?? "no site"}`}
          {a.notes > 0 && ` · ${counted(a.notes, "note")}`}
          <span className="block md:hidden">
            {state}, since <At at={a.raised_at} />
          </span>
        </div>
      </div>
      <div role="gridcell" className="hidden text-right md:block">
        <div>
          <At at={a.raised_at} />
        </div>
        <div className="text-[12.5px] text-second">{a.cleared_at ? `lasted ${length}` : `for ${length}`}</div>
      </div>
      <div role="gridcell" className="hidden min-w-0 text-[12.5px] md:block">
        <div className="truncate">{state}</div>
        <div
          className="truncate text-second"
          title={a.shelved_until ? `until ${exact(new Date(a.shelved_until))}: ${a.shelved_why}` : undefined}
        >
          {a.shelved_until ? (
            <>
              until <At at={a.shelved_until} />: {a.shelved_why}
            </>
          ) : (
            who || "nobody has it"
          )}
        </div>
      </div>
      <div role="gridcell" className="flex justify-end gap-2 pr-2">
        {children}
      </div>
    </div>
  );
}

/** Alarms of one cause on one line; its members unfold below it. */
export function GroupRow({
  group: g,
  row,
  asOf,
  marked,
  mark,
  unfolded,
  unfold,
  children,
}: {
  group: Group;
  row: Row;
  asOf: Date;
  marked: boolean;
  mark: () => void;
  unfolded: boolean;
  unfold: () => void;
  children?: React.ReactNode;
}) {
  const things = g.kind === "device" ? counted(g.alarms.length, "alarm") : counted(g.devices, "device");
  return (
    <div {...row} className={look(COLUMNS, `${row["aria-selected"] ? "is-selected" : ""}`)} data-group={g.kind}>
      <Mark on={marked} toggle={mark} label={g.title} />
      <span role="gridcell">
        <PriorityMark priority={g.priority} taken={g.unacknowledged === 0} />
      </span>
      <div role="gridcell" className="min-w-0">
        <button
          type="button"
          tabIndex={-1}
          aria-expanded={unfolded}
          className={`block max-w-full text-left hover:underline md:truncate ${g.unacknowledged ? "font-bold" : ""}`}
          onClick={unfold}
        >
          <span aria-hidden>{unfolded ? "− " : "+ "}</span>
          {g.title}: {things} at {g.where}
        </button>
        <div className="text-[12.5px] text-second md:truncate">
          {g.priority} · {g.why}
          {g.explained > 0 && ` · ${counted(g.explained, "silence")} more explained by it`}
        </div>
      </div>
      <div role="gridcell" className="hidden text-right md:block">
        <div>
          <At at={g.since} />
        </div>
        <div className="text-[12.5px] text-second">
          for {lasting((asOf.getTime() - new Date(g.since).getTime()) / 1000)}
        </div>
      </div>
      <div role="gridcell" className="hidden min-w-0 text-[12.5px] md:block">
        <div className="truncate">{counted(g.alarms.length, "alarm")}</div>
        <div className="truncate text-second">
          {g.unacknowledged ? `${g.unacknowledged} unacknowledged` : "all acknowledged"}
        </div>
      </div>
      <div role="gridcell" className="flex justify-end gap-2 pr-2">
        {children}
      </div>
    </div>
  );
}
