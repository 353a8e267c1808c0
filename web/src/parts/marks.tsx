import type { ReactNode } from "react";

export type Priority = "critical" | "high" | "medium" | "low";
export const PRIORITIES: Priority[] = ["critical", "high", "medium", "low"];
const FILL: Record<Priority, number> = { critical: 1, high: 0.75, medium: 0.5, low: 0.25 };

/** Squares are alarms: framed, filled from below by priority; a notch at the corner while nobody has taken it. */
export function PriorityMark({
  priority,
  taken = true,
  size = 16,
}: {
  priority: string;
  taken?: boolean;
  size?: 12 | 16 | 20;
}) {
  const share = FILL[priority as Priority] ?? 0.25;
  const inner = size - 4;
  const height = Math.round(inner * share);
  const colour = `var(--${priority})`;
  const top = 2 + inner - height;
  const fill =
    taken || top > 6
      ? `M2 ${top}H${size - 2}V${size - 2}H2Z`
      : `M2 ${top}H${size - 7 + top}L${size - 2} 6V${size - 2}H2Z`;
  return (
    <svg
      width={size}
      height={size}
      role="img"
      aria-label={`${priority} priority${taken ? "" : ", unacknowledged"}`}
      className="shrink-0"
    >
      <path
        d={taken ? `M1 1H${size - 1}V${size - 1}H1Z` : `M1 1H${size - 6}L${size - 1} 6V${size - 1}H1Z`}
        fill="none"
        stroke={colour}
        strokeWidth="2"
      />
      <path d={fill} fill={colour} />
    </svg>
  );
}

export const STATE_WORDS: Record<string, string> = {
  reporting: "reports",
  overdue: "overdue",
  silent: "silent",
  undecodable: "undecodable",
  waiting: "never heard",
};

/** Rings are devices: open reporting, half overdue, dash silent, struck undecodable, dotted never heard. All in ink. */
export function StateMark({ state, size = 14 }: { state: string; size?: number }) {
  const c = size / 2;
  const r = c - 2;
  return (
    <svg width={size} height={size} role="img" aria-label={STATE_WORDS[state] ?? state} className="shrink-0">
      {state === "silent" ? (
        <line x1="1.5" x2={size - 1.5} y1={c} y2={c} stroke="var(--ink)" strokeWidth="3" />
      ) : (
        <circle
          cx={c}
          cy={c}
          r={r}
          fill="none"
          stroke={state === "reporting" || state === "waiting" ? "var(--edge)" : "var(--ink)"}
          strokeWidth="1.8"
          strokeDasharray={state === "waiting" ? "1.6 2" : undefined}
        />
      )}
      {state === "overdue" && <path d={`M${c} ${c - r}A${r} ${r} 0 0 0 ${c} ${c + r}Z`} fill="var(--ink)" />}
      {state === "undecodable" && (
        <line x1="1" y1={size - 1} x2={size - 1} y2="1" stroke="var(--ink)" strokeWidth="2.2" />
      )}
    </svg>
  );
}

export function Emblem() {
  return (
    <svg width="22" height="22" viewBox="0 0 24 24" fill="none" aria-hidden>
      <path d="M13.2 4.1A8.5 8.5 0 1 0 20.4 13" stroke="var(--ink)" strokeWidth="3.2" />
      <rect x="15.6" y="3" width="5.4" height="5.4" fill="var(--ink)" />
    </svg>
  );
}

/** A key of the keyboard, shown where it acts. */
export const Key = ({ children }: { children: ReactNode }) => <kbd className="key">{children}</kbd>;
