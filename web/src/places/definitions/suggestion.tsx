import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { look } from "../../parts/look";
import { lasting } from "../../parts/time";
import { unitOf } from "../../parts/units";
import { useAsked } from "./asked";
import type { useDraft } from "./draft";
import { withDelay, withLimit } from "./limit-text";

type Found = Schemas["SuggestedOut"];
type Point = Schemas["SuggestedPoint"];
const [WIDE, HIGH, LEFT, FOOT] = [560, 150, 44, 24];

/** How often the alarm would come at other limits and delays: a curve on which one picks a point. */
export function Suggestion({
  draft,
  days,
  suppose,
}: {
  draft: ReturnType<typeof useDraft>;
  days: number;
  suppose: (name: string, value: number) => void;
}) {
  const id = draft.definition.data?.id ?? 0;
  const [span, setSpan] = useState<{ start: string; end: string; text: string } | null>(null);
  const limit = draft.check.data?.limits[0];
  const asked = useAsked<Found>(
    `/api/v1/definitions/${id}/suggest`,
    { text: span?.text ?? "", start: span?.start, end: span?.end },
    span !== null,
  );
  const sound = draft.ready && draft.sound && draft.upToDate;
  if (!span)
    return limit ? (
      <button
        type="button"
        className="link ml-auto text-[12.5px]"
        disabled={!sound}
        onClick={() => {
          const now = Date.now();
          const start = new Date(now - days * 86_400_000).toISOString();
          setSpan({ start, end: new Date(now).toISOString(), text: draft.settled });
        }}
      >
        suggest a limit
      </button>
    ) : null;
  const found = asked.data;
  const take = (point: Point) => {
    if (!limit || !sound) return;
    if (limit.setpoint) suppose(limit.setpoint, point.value);
    const text = limit.setpoint ? draft.text : withLimit(draft.text, limit, point.value);
    if (point.held_s !== limit.held_s) draft.setText(withDelay(text, limit, point.held_s));
    else if (text !== draft.text) draft.setText(text);
    setSpan(null);
  };
  return (
    <section className="suggestion w-full border-t border-line py-2" aria-label="Suggestion">
      <div className="flex items-baseline gap-3">
        <h2>
          How often it would come <span>· at other limits of {found?.words ?? "the quantity"}; pick a point</span>
        </h2>
        {asked.at && (
          <>
            <progress max={asked.at.total || 1} value={asked.at.done} aria-label="how far it is" />
            <button type="button" className="link" onClick={asked.stop}>
              stop
            </button>
          </>
        )}
        <button type="button" className="link ml-auto" onClick={() => setSpan(null)}>
          close
        </button>
      </div>
      {asked.error && !(asked.error instanceof DOMException) ? <Trouble error={asked.error} /> : null}
      {found && <Tradeoff found={found} take={take} held={limit?.held_s ?? 0} />}
    </section>
  );
}

function Tradeoff({ found, take, held }: { found: Found; take: (point: Point) => void; held: number }) {
  const values = found.points.map((p) => p.value);
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const most = Math.max(0.1, ...found.points.map((p) => p.a_day));
  const delays = [...new Set(found.points.map((p) => p.held_s))];
  // Few alarms are what is wanted: the scale is drawn by roots, so that one and ten a day stand apart.
  const x = (v: number) => LEFT + ((v - low) / (high - low || 1)) * (WIDE - LEFT - 12);
  const y = (a: number) => 8 + (1 - Math.sqrt(a / most)) * (HIGH - FOOT - 8);
  const unit = unitOf(found.unit);
  return (
    <div className="flex flex-wrap items-start gap-6">
      <svg width={WIDE} height={HIGH} role="group" aria-label="Alarms a day by limit">
        {[0, most / 4, most].map((a) => (
          <g key={a}>
            <line x1={LEFT} x2={WIDE} y1={y(a)} y2={y(a)} stroke="var(--line)" />
            <text x={LEFT - 6} y={y(a) + 4} textAnchor="end" fontSize="11.5" fill="var(--second)">
              {Number(a.toPrecision(2))}
            </text>
          </g>
        ))}
        {delays.map((d) => (
          <polyline
            key={d}
            fill="none"
            stroke="var(--ink)"
            strokeWidth={d === held ? 1.8 : 1}
            strokeDasharray={d === held ? undefined : d === 0 ? "2 3" : "7 3"}
            points={found.points
              .filter((p) => p.held_s === d)
              .map((p) => `${x(p.value)},${y(p.a_day)}`)
              .join(" ")}
          />
        ))}
        {found.points.map((p) => (
          <circle
            key={`${p.value} ${p.held_s}`}
            role="button"
            tabIndex={0}
            aria-label={said(p, unit)}
            className="cursor-pointer outline-offset-1"
            cx={x(p.value)}
            cy={y(p.a_day)}
            r={p.held_s === held ? 5 : 3.5}
            fill={p.held_s === held ? "var(--ink)" : "var(--paper)"}
            stroke="var(--ink)"
            onClick={() => take(p)}
            onKeyDown={(e) => {
              if (e.key !== "Enter" && e.key !== " ") return;
              e.preventDefault();
              take(p);
            }}
          >
            <title>{said(p, unit)}</title>
          </circle>
        ))}
        {[low, (low + high) / 2, high].map((v, i) => (
          <text
            key={v}
            x={x(v)}
            y={HIGH - 6}
            textAnchor={i === 0 ? "start" : i === 1 ? "middle" : "end"}
            fontSize="11.5"
            fill="var(--second)"
          >
            {Number(v.toPrecision(4))} {i === 2 ? unit : ""}
          </text>
        ))}
      </svg>
      <div className="max-w-md text-[12.5px] text-second">
        <p>
          Alarms a day, by roots, against the limit
          {found.setpoint ? `; one number in place of ${found.setpoint} for all` : ""}.
        </p>
        <ul className="my-1">
          {delays.map((d) => (
            <li key={d} className={look("", d === held ? "font-bold text-ink" : "")}>
              {d === held ? "thick" : d === 0 ? "dotted" : "dashed"}: {d ? `held ${lasting(d)}` : "no delay"}
              {d === held ? ", as it is written" : ""}
            </li>
          ))}
        </ul>
        <p>
          {found.values.toLocaleString("en")} values; the middle {Number((found.percentiles[4] ?? 0).toPrecision(4))},
          nine of ten between {Number((found.percentiles[2] ?? 0).toPrecision(4))} and{" "}
          {Number((found.percentiles[6] ?? 0).toPrecision(4))} {unit}.
        </p>
      </div>
    </div>
  );
}

const said = (p: Point, unit: string) =>
  `${p.value} ${unit}${p.held_s ? `, held ${lasting(p.held_s)}` : ""}: ${Number(p.a_day.toPrecision(2))} a day, ` +
  `${p.raised} in all, ${p.devices} devices`;
