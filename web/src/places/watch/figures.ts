import type { Schemas } from "../../api/client";
import { lasting } from "../../parts/time";

export type Figures = Schemas["HealthFigures"];

export const percent = (share: number | null | undefined) =>
  share === null || share === undefined ? "–" : `${(share * 100).toFixed(1)} %`;

/** A length of time to three digits, with its sign. */
export const length = (seconds: number | null | undefined): string => {
  if (seconds === null || seconds === undefined) return "–";
  const size = Math.abs(seconds);
  return `${seconds < 0 ? "−" : ""}${size < 60 ? `${Number(size.toPrecision(2))} s` : lasting(size)}`;
};

/** How far a clock is off, in words. */
export const clockWords = (ahead: number | null | undefined) =>
  ahead === null || ahead === undefined
    ? "–"
    : Math.abs(ahead) < 1
      ? "right"
      : `${length(Math.abs(ahead))} ${ahead > 0 ? "ahead" : "behind"}`;

/** The share of time in a state. */
export const spent = (figures: Figures, state: string): number | null => {
  const whole = Object.values(figures.states_s).reduce((a, b) => a + b, 0);
  return whole ? (figures.states_s[state] ?? 0) / whole : null;
};
