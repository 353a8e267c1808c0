/** What a row of the rhythm is drawn from: messages by part of the span, against the cadence. */

import { lasting } from "../../parts/time";
import { counted } from "../../parts/words";

export type Beats = {
  messages: number[];
  failed: number[];
  /** From and to which part the quickest messages were late, s; early where negative. */
  late: number[][];
  cadence_s: number | null;
  /** The first part in which the device was known: before it nothing is missing. */
  known_from: number;
};
export type Stroke = {
  part: number;
  /** Of the height of a row. */
  tall: number;
  kind: "whole" | "refused" | "burst";
  /** How many parts before its arrival it was measured. */
  slant: number;
};
export type Gap = { from: number; to: number };

const BURST = 2; // times as many as the cadence promises
const OVERDUE = 1.5; // cadences without a message, until that is a gap

/** Strokes of a row: as tall as what came of what the cadence promises. */
export function strokes(row: Beats, partS: number): Stroke[] {
  const promised = row.cadence_s ? Math.max(partS / row.cadence_s, 1) : Math.max(1, ...row.messages);
  const slants = new Map<number, number>();
  for (const [from = 0, to = 0, s = 0] of row.late)
    for (let part = from; part < to; part += 1) slants.set(part, s / partS);
  const found: Stroke[] = [];
  row.messages.forEach((n, part) => {
    if (!n) return;
    const bad = (row.failed[part] ?? 0) * 2 >= n;
    found.push({
      part,
      tall: Math.min(n / promised, 1),
      kind: bad ? "refused" : row.cadence_s && n > BURST * promised ? "burst" : "whole",
      slant: slants.get(part) ?? 0,
    });
  });
  return found;
}

/**
 * Where nothing came for longer than the cadence allows: from and behind which part. `away`: where Oculum did not
 * listen, which is nobody's gap.
 */
export function gaps(row: Beats, partS: number, away: Gap[] = []): Gap[] {
  const least = row.cadence_s ? Math.max(Math.ceil((OVERDUE * row.cadence_s) / partS), 1) : Infinity;
  const found: Gap[] = [];
  let from = row.known_from;
  row.messages.forEach((n, part) => {
    if (part < row.known_from) return;
    if (!n && !away.some((gap) => gap.from < part + 1 && part < gap.to)) return;
    if (part - from >= least) found.push({ from, to: part });
    from = part + 1;
  });
  if (row.messages.length - from >= least) found.push({ from, to: row.messages.length });
  return found;
}

/** A row with its own gaps in words, for those who do not see it. */
export function told(row: Beats, own: Gap[], partS: number): string {
  const sum = (numbers: number[]) => numbers.reduce((a, b) => a + b, 0);
  const refused = sum(row.failed);
  const longest = Math.max(0, ...own.map((gap) => gap.to - gap.from)) * partS;
  return [
    counted(sum(row.messages), "message"),
    refused ? `${refused} refused` : "",
    longest ? `longest gap ${lasting(longest)}` : "",
  ]
    .filter(Boolean)
    .join(", ");
}

/** What stands at a part: how many came, and how late they were. */
export function toldOf(row: Beats, part: number): string {
  const n = row.messages[part] ?? 0;
  const refused = row.failed[part] ?? 0;
  const late = row.late.find(([from = 0, to = 0]) => from <= part && part < to)?.[2];
  return [
    n ? counted(n, "message") : "no message",
    refused ? `${refused} refused` : "",
    n && late ? `measured ${lasting(Math.abs(late))} ${late > 0 ? "before" : "after"} they came` : "",
  ]
    .filter(Boolean)
    .join(", ");
}
