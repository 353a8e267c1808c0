import type { Schemas } from "../../api/client";
import { shown } from "../../parts/basics";
import { useNow } from "../../parts/keys";
import { PriorityMark } from "../../parts/marks";
import { exact, lasting } from "../../parts/time";
import { Cell } from "../../parts/table";
import { titled, unitOf } from "../../parts/units";
import { useWhy, whyReading } from "../../parts/why";
import { look } from "../../parts/look";

type Value = Schemas["ValueOut"];
export const DRAWN = ["number", "integer", "flag", "code"];

/** How long ago something was; drawn anew by itself. `asOf`: another moment than now. */
export function Age({ at, asOf }: { at: string; asOf: Date | null }) {
  const now = useNow(1000);
  return lasting(((asOf ?? now).getTime() - new Date(at).getTime()) / 1000);
}

/** A value of a device: what it is, its unit, its age; pressed it is drawn. */
export function ValueRow({
  value: v,
  device,
  drawn,
  toggle,
  asOf,
  alarm,
}: {
  value: Value;
  device: string;
  drawn: boolean;
  toggle: (field: string) => void;
  asOf: Date | null;
  alarm?: Schemas["OpenAlarm"];
}) {
  const why = useWhy();
  const can = DRAWN.includes(v.kind);
  return (
    <div
      role="row"
      className={look(
        "row-line grid grid-cols-[minmax(0,1fr)_auto_60px_70px_24px] items-center gap-1.5",
        drawn ? "shadow-[inset_3px_0_0_var(--ink)]" : "",
      )}
    >
      <Cell look="min-w-0">
        <button
          type="button"
          disabled={!can}
          aria-pressed={drawn}
          className={`min-h-8 w-full truncate pl-2.5 text-left ${can ? "hover:underline" : ""}`}
          onClick={() => toggle(v.field)}
          title={can ? `${v.field}: draw or remove` : v.field}
        >
          {titled(v.field, v.title)}
        </button>
      </Cell>
      <Cell look="flex items-center gap-1.5 text-right">
        {alarm && <PriorityMark priority={alarm.priority} taken={alarm.acknowledged} size={12} />}
        <b className={v.value === null ? "font-normal text-second" : ""}>{shown(v.value, v)}</b>
      </Cell>
      <Cell look="unit truncate">{unitOf(v.unit)}</Cell>
      <Cell look="text-right text-[12px] text-second">
        {v.at && (
          <span title={exact(new Date(v.at))}>
            <Age at={v.at} asOf={asOf} />
          </span>
        )}
      </Cell>
      <Cell>
        {v.message && (
          <button
            type="button"
            className="min-h-6 min-w-6 text-second hover:text-ink"
            aria-label={`Why ${titled(v.field, v.title)}?`}
            title="Why?"
            onClick={() => why(whyReading(device, v.field, v.message as string))}
          >
            ?
          </button>
        )}
      </Cell>
    </div>
  );
}
