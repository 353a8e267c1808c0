import type { Schemas } from "../../api/client";
import type { Incident } from "./incidents";

/** What would have been raised on a device. */
export type Row = Schemas["TrialRow"];

const WIDE = 1000;

/**
 * The alarms of a device along the span. Filled: raised by the draft, with a line above where it is new or changed;
 * framed: the version in force would have raised it, the draft not. Below: what people said, a tick or a cross.
 */
export function TrialBars({
  row,
  from,
  to,
  bar,
  pick,
  incidents,
}: {
  row: Row;
  from: number;
  to: number;
  bar: number | null;
  pick: (n: number) => void;
  incidents: Incident[];
}) {
  const x = (at: number) => Math.min(Math.max(((at - from) / (to - from)) * WIDE, 0), WIDE);
  const place = (one: { raised_at: string; cleared_at: string | null }): [number, number] => {
    const a = x(Date.parse(one.raised_at));
    return [a, Math.max(x(one.cleared_at ? Date.parse(one.cleared_at) : to) - a, 3)];
  };
  return (
    <svg
      className="block h-7 w-full"
      viewBox={`0 0 ${WIDE} 28`}
      preserveAspectRatio="none"
      role="img"
      aria-label={words(row)}
      onMouseDown={(event) => {
        const box = event.currentTarget.getBoundingClientRect();
        const at = ((event.clientX - box.left) / box.width) * WIDE;
        const distances = row.spans.map((s) => {
          const [a, wide] = place(s);
          return Math.max(a - at, at - a - wide, 0);
        });
        if (distances.length) pick(distances.indexOf(Math.min(...distances)));
      }}
    >
      <line x1="0" x2={WIDE} y1="14" y2="14" stroke="var(--line)" vectorEffect="non-scaling-stroke" />
      {row.gone.map((one, n) => {
        const [a, wide] = place(one);
        return (
          <rect
            key={`gone ${n}`}
            x={a}
            width={wide}
            y="10"
            height="8"
            fill="var(--paper)"
            stroke="var(--ink)"
            strokeDasharray="3 2"
            vectorEffect="non-scaling-stroke"
          />
        );
      })}
      {row.spans.map((one, n) => {
        const [a, wide] = place(one);
        return (
          <g key={n}>
            <rect x={a} width={wide} y="9" height="10" fill={`var(--${one.priority})`} />
            {one.against && one.against !== "same" && <rect x={a} width={wide} y="5" height="2" fill="var(--ink)" />}
            {n === bar && (
              <rect
                x={a - 3}
                width={wide + 6}
                y="3"
                height="22"
                fill="none"
                stroke="var(--ink)"
                vectorEffect="non-scaling-stroke"
              />
            )}
          </g>
        );
      })}
      {incidents.map((one) => {
        const a = x(Date.parse(one.begin));
        const wide = Math.max(x(Date.parse(one.end)) - a, 3);
        const y = 23;
        return one.real ? (
          <line
            key={one.id}
            x1={a}
            x2={a + wide}
            y1={y}
            y2={y}
            stroke="var(--ink)"
            strokeWidth="3"
            vectorEffect="non-scaling-stroke"
          />
        ) : (
          <line
            key={one.id}
            x1={a}
            x2={a + wide}
            y1={y}
            y2={y}
            stroke="var(--ink)"
            strokeWidth="3"
            strokeDasharray="2 3"
            vectorEffect="non-scaling-stroke"
          />
        );
      })}
    </svg>
  );
}

const words = (row: Row) =>
  `${row.raised} raised${row.gone.length ? `, ${row.gone.length} of the version in force gone` : ""}`;
