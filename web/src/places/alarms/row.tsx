import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { At } from "../../parts/basics";
import type { useChosen } from "../../parts/chosen";
import { useKept } from "../../parts/lookback-state";
import { PriorityMark } from "../../parts/marks";
import { lasting } from "../../parts/time";
import { useWhy, whyAlarm } from "../../parts/why";
import { counted } from "../../parts/words";
import { Notes } from "./notes";
import { look } from "../../parts/look";

type Alarm = Schemas["AlarmOut"];

/** An alarm: what it says, where, since when, who took it, and what can be done about it. */
export function AlarmRow({
  alarm: a,
  row,
  asOf,
  operator,
  acknowledge,
  giveBack,
  noting,
  setNoting,
  after,
}: {
  alarm: Alarm;
  row: ReturnType<ReturnType<typeof useChosen<Alarm>>["row"]>;
  asOf: Date;
  operator: boolean;
  acknowledge: () => void;
  giveBack: () => void;
  noting: boolean;
  setNoting: (on: boolean) => void;
  after: () => unknown;
}) {
  const why = useWhy();
  const kept = useKept();
  const until = a.cleared_at ? new Date(a.cleared_at) : asOf;
  const length = lasting((until.getTime() - new Date(a.raised_at).getTime()) / 1000);
  const lasts = a.cleared_at ? `lasted ${length}` : `for ${length}`;
  return (
    <>
      <div
        {...row}
        className={look(
          "grid grid-cols-[28px_minmax(0,1fr)_auto] items-center gap-x-2 py-1.5",
          "md:grid-cols-[28px_minmax(0,1fr)_140px_270px]",
          `${row["aria-selected"] ? "is-selected" : ""}`,
        )}
        data-alarm={a.id}
      >
        <span role="gridcell" className="pl-2">
          <PriorityMark priority={a.priority} taken={Boolean(a.acknowledged_at)} />
        </span>
        <div role="gridcell" className="min-w-0">
          <div className={`text-[15px] md:truncate ${a.acknowledged_at ? "" : "font-bold"}`}>{a.text}</div>
          <div className="text-[12.5px] text-second md:truncate">
            {a.priority} ·{" "}
            <Link className="hover:underline" to={kept(`/conditions/${a.definition}`)}>
              {a.condition}
            </Link>{" "}
            ·{" "}
            <Link className="hover:underline" to={kept(`/devices/${a.device}`)}>
              {a.device_title}
            </Link>
            , {a.site_title ?? "no site"}
            <span className="block md:hidden">
              since <At at={a.raised_at} />, {lasts}
            </span>
          </div>
        </div>
        <div role="gridcell" className="hidden text-right md:block">
          <div>
            since <At at={a.raised_at} />
          </div>
          <div className="text-[12.5px] text-second">{lasts}</div>
        </div>
        <div
          role="gridcell"
          className="flex flex-col items-end gap-x-3 gap-y-1 pr-2 md:flex-row md:items-center md:justify-end"
        >
          {a.acknowledged_at ? (
            <span className="text-[12.5px] text-second">
              taken by {a.acknowledged_by}
              {a.undo_until && new Date(a.undo_until) > new Date() && (
                <button type="button" className="link ml-2 text-ink" onClick={giveBack}>
                  give back
                </button>
              )}
            </span>
          ) : operator ? (
            <button type="button" className="button" onClick={acknowledge}>
              Acknowledge
            </button>
          ) : (
            <b>nobody</b>
          )}
          {(operator || a.notes > 0) && (
            <button type="button" className="link" aria-expanded={noting} onClick={() => setNoting(!noting)}>
              {a.notes ? counted(a.notes, "note") : "note"}
            </button>
          )}
          <button type="button" className="link" onClick={() => why(whyAlarm(a.id))}>
            why?
          </button>
        </div>
      </div>
      {noting && <Notes alarm={a} operator={operator} close={() => setNoting(false)} after={after} back={row.id} />}
    </>
  );
}
