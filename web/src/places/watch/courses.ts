import type { Line } from "../../parts/chart";

/** The newest value of a line at a moment, if it is not older than `gap` seconds. */
function carried(line: Line, at: number, from: number, gap: number): [number | null, number] {
  let k = from;
  while (k + 1 < line.t.length && (line.t[k + 1] as number) <= at) k++;
  const t = line.t[k];
  return [t === undefined || t > at || at - t > gap ? null : (line.v[k] ?? null), k];
}

/** One line less another, or over it, at the moments of both; nothing where the other is older than `gap` seconds. */
export function combined(one: Line, other: Line, how: "less" | "over", gap: number): Line {
  const t = [...new Set([...one.t, ...other.t])].sort((a, b) => a - b);
  let [i, j] = [0, 0];
  let [a, b]: (number | null)[] = [null, null];
  const v = t.map((at) => {
    [a, i] = carried(one, at, i, gap);
    [b, j] = carried(other, at, j, gap);
    if (a === null || b === null) return null;
    if (how === "less") return a - b;
    return b === 0 ? null : a / b;
  });
  return { t, v };
}

/** How closely two quantities go together, -1 to 1 (Pearson); null where one does not change. */
export function together(pairs: { x: number; y: number }[]): number | null {
  const n = pairs.length;
  if (n < 3) return null;
  const mean = (of: (p: { x: number; y: number }) => number) => pairs.reduce((sum, p) => sum + of(p), 0) / n;
  const [mx, my] = [mean((p) => p.x), mean((p) => p.y)];
  const [xx, yy] = [mean((p) => (p.x - mx) ** 2), mean((p) => (p.y - my) ** 2)];
  return xx > 0 && yy > 0 ? mean((p) => (p.x - mx) * (p.y - my)) / Math.sqrt(xx * yy) : null;
}

/** Round steps between two values, at most `most` of them. */
export function steps(low: number, high: number, most: number): number[] {
  const raw = (high - low || 1) / most;
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = ([1, 2, 5, 10].find((k) => k * power >= raw) ?? 10) * power;
  const found: number[] = [];
  for (let k = Math.ceil(low / step); k * step <= high + step * 1e-9; k++)
    found.push(Number((k * step).toPrecision(12)));
  return found;
}
