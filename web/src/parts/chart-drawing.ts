import uPlot from "uplot";
import { colour } from "./canvas";
import { tone } from "./tones";

export type LimitLine = { value: number; word: string; drag?: (value: number) => void };
/** Where most devices of the kind are: the tenths and the middle, by time. */
export type Among = { t: number[]; low: (number | null)[]; middle: (number | null)[]; high: (number | null)[] };

/** Between the box of a chart and its plot: the axis of values at the left, a margin at the right (px). */
export const AXIS = 44;
export const MARGIN = 8;

/** Series before those of `more`: time, the line, its envelope, what it is made of (twice), its bounds. */
export const OWN = 7;
const LABEL_WIDE = 34; // px that the word of a moment takes
export const LABEL_PX = 150; // room for the names at the right

/** What happened at a moment (s), in a few words. */
export type Happened = { at: number; word: string };

/** Whether the label of a moment would reach beyond the right edge. */
export function cut(u: uPlot, t: number): boolean {
  const { min, max } = u.scales?.x ?? {};
  if (typeof min !== "number" || typeof max !== "number") return false;
  return ((max - t) / (max - min)) * (u.width - AXIS - MARGIN) + MARGIN < LABEL_WIDE;
}

/** Dotted lines where something happened, each with its word as far as there is room for it. */
export function written(u: uPlot, notes: Happened[]) {
  const pen = u.ctx;
  const ratio = uPlot.pxRatio;
  const { left, top, width, height } = u.bbox;
  const own = notes
    .map((note) => ({ x: u.valToPos(note.at, "x", true), word: note.word }))
    .filter(({ x }) => x >= left && x <= left + width)
    .sort((a, b) => a.x - b.x);
  pen.save();
  pen.font = `${11.5 * ratio}px 'Hanken Grotesk Variable', sans-serif`;
  pen.textBaseline = "top";
  let used = left; // so far words reach
  own.forEach(({ x, word }, i) => {
    pen.strokeStyle = colour("second");
    pen.lineWidth = ratio;
    pen.setLineDash([ratio, 3 * ratio]);
    pen.beginPath();
    pen.moveTo(x, top);
    pen.lineTo(x, top + height);
    pen.stroke();
    const room = (own[i + 1]?.x ?? left + width) - x - 8 * ratio;
    const whole = pen.measureText(word).width;
    const before = whole > room && x - used > whole + 8 * ratio; // near the right edge it stands before its line
    let shown = word;
    while (!before && shown.length > 1 && pen.measureText(shown).width > room)
      shown = `${shown.slice(0, -2).trimEnd()}…`;
    if (shown.length < 3) return;
    const wide = pen.measureText(shown).width;
    const from = before ? x - wide - 4 * ratio : x + 4 * ratio;
    used = from + wide;
    pen.setLineDash([]);
    pen.fillStyle = colour("paper");
    pen.fillRect(from - 2 * ratio, top, wide + 4 * ratio, 14 * ratio);
    pen.fillStyle = colour("second");
    pen.fillText(shown, from, top + ratio);
  });
  pen.restore();
}

/** A limit, dashed, with its word where it covers no curve. shown: the series that are curves. */
export function limitOf(u: uPlot, limit: LimitLine, shown: number[]) {
  const pen = u.ctx;
  const ratio = uPlot.pxRatio;
  const { left, width } = u.bbox;
  const y = u.valToPos(limit.value, "y", true);
  pen.strokeStyle = colour("ink");
  pen.setLineDash([5 * ratio, 4 * ratio]);
  pen.lineWidth = ratio;
  pen.beginPath();
  pen.moveTo(left, y);
  pen.lineTo(left + width, y);
  pen.stroke();
  pen.setLineDash([]);
  pen.font = `${11.5 * ratio}px 'Hanken Grotesk Variable', sans-serif`;
  pen.textAlign = "left";
  pen.textBaseline = "middle";
  const wide = pen.measureText(limit.word).width;
  const x = clearest(u, y, wide + 8 * ratio, shown);
  pen.fillStyle = colour("paper");
  pen.fillRect(x, y - 8 * ratio, wide + 8 * ratio, 16 * ratio);
  pen.fillStyle = colour("second");
  pen.fillText(limit.word, x + 4 * ratio, y);
}

const PLACES = 6; // where a word may stand along its line
const LOOKED_AT = 60; // values of a curve beside a word

/** Where along a line at height `y` a word (px wide) stands: the first place clear of curves, else the clearest. */
export function clearest(u: uPlot, y: number, wide: number, shown: number[]): number {
  const ratio = uPlot.pxRatio;
  const { left, width } = u.bbox;
  const times = u.data[0];
  let [best, farthest] = [left + 8 * ratio, -1];
  for (let k = 0; k < PLACES; k++) {
    const x = left + 8 * ratio + (k * Math.max(width - wide - 16 * ratio, 0)) / (PLACES - 1);
    const [from, to] = [x, x + wide].map((at) => placeOf(times, u.posToVal((at - left) / ratio, "x"))) as [
      number,
      number,
    ];
    let near = Infinity;
    for (const row of shown) {
      const scale = u.series[row]?.scale ?? "y";
      for (let i = from; i <= to; i += Math.max(1, Math.floor((to - from) / LOOKED_AT))) {
        const value = u.data[row]?.[i];
        if (value !== null && value !== undefined) near = Math.min(near, Math.abs(u.valToPos(value, scale, true) - y));
      }
    }
    if (near > 14 * ratio) return x;
    if (near > farthest) [best, farthest] = [x, near];
  }
  return best;
}

/** The first place in rising numbers that is not below one. */
function placeOf(rising: ArrayLike<number>, value: number): number {
  let [low, high] = [0, rising.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((rising[middle] as number) < value) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Draws where most devices are, before all else: the tenths as a ground, the middle dotted. */
export function behind(u: uPlot, { t, low, middle, high }: Among) {
  const pen = u.ctx;
  const ratio = uPlot.pxRatio;
  const { left, top, width, height } = u.bbox;
  const runs: number[][] = [[]];
  t.forEach((_, i) => {
    if (low[i] !== null && high[i] !== null) runs[runs.length - 1]?.push(i);
    else runs.push([]);
  });
  const x = (i: number) => u.valToPos(t[i] as number, "x", true);
  const y = (v: number | null | undefined) => u.valToPos(v as number, "y", true);
  pen.save();
  pen.beginPath();
  pen.rect(left, top, width, height);
  pen.clip();
  pen.fillStyle = colour("quiet");
  pen.strokeStyle = colour("second");
  pen.lineWidth = ratio;
  for (const run of runs) {
    pen.setLineDash([]);
    pen.beginPath();
    for (const i of run) pen.lineTo(x(i), y(high[i]));
    for (const i of [...run].reverse()) pen.lineTo(x(i), y(low[i]));
    pen.fill();
    pen.setLineDash([ratio, 3 * ratio]);
    pen.beginPath();
    for (const i of run) pen.lineTo(x(i), y(middle[i]));
    pen.stroke();
  }
  pen.restore();
}

/** Writes the name of each curve beside its end, apart from each other, with a piece of its stroke. */
export function nameEnds(u: uPlot, labels: string[]) {
  const pen = u.ctx;
  const ratio = uPlot.pxRatio;
  const { left, top, width, height } = u.bbox;
  const ends = labels.flatMap((label, k) => {
    const row = k === 0 ? 1 : OWN + k - 1;
    const values = u.data[row] ?? [];
    let i = values.length - 1;
    while (i >= 0 && (values[i] === null || values[i] === undefined)) i--;
    return i < 0 ? [] : [{ label, k, y: u.valToPos(values[i] as number, u.series[row]?.scale ?? "y", true) }];
  });
  const step = 15 * ratio;
  ends.sort((a, b) => a.y - b.y);
  ends.forEach((end, i) => {
    const before = ends[i - 1];
    end.y = Math.max(end.y, before ? before.y + step : top + step / 2);
  });
  const over = (ends[ends.length - 1]?.y ?? 0) - (top + height - step / 2);
  if (over > 0) ends.forEach((end) => (end.y -= over));
  const right = u.root.clientWidth * ratio - LABEL_PX * ratio;
  pen.save();
  pen.font = `${11.5 * ratio}px 'Hanken Grotesk Variable', sans-serif`;
  pen.textBaseline = "middle";
  pen.textAlign = "left";
  for (const { label, k, y } of ends) {
    const at = Math.max(right, left + width) + 6 * ratio;
    pen.strokeStyle = colour(tone(k).ink);
    pen.lineWidth = tone(k).width * ratio;
    pen.setLineDash(tone(k).dash.map((d) => d * ratio));
    pen.beginPath();
    pen.moveTo(at, y);
    pen.lineTo(at + 16 * ratio, y);
    pen.stroke();
    pen.setLineDash([]);
    pen.fillStyle = colour("ink");
    let text = label;
    while (text.length > 4 && pen.measureText(text).width > (LABEL_PX - 26) * ratio) text = `${text.slice(0, -2)}…`;
    pen.fillText(text, at + 20 * ratio, y);
  }
  pen.restore();
}
