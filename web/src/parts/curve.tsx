import { exactly } from "./basics";

/** Values as a small line, over their times where these are given; told in words by its lowest and highest. */
export function Curve({
  values,
  times,
  height = 28,
}: {
  values: (number | null)[];
  times?: number[];
  height?: number;
}) {
  const known = values.filter((v): v is number => v !== null);
  if (known.length < 2) return <span />;
  const low = Math.min(...known);
  const high = Math.max(...known);
  const begin = times?.[0] ?? 0;
  const end = times?.[times.length - 1] ?? values.length - 1;
  const x = (i: number) => (((times?.[i] ?? i) - begin) / (end - begin || 1)) * 200;
  const y = (v: number) => (high === low ? 15 : 28 - ((v - low) / (high - low)) * 26);
  const points = values.flatMap((v, i) => (v === null ? [] : [`${x(i)},${y(v)}`])).join(" ");
  return (
    <svg
      viewBox="0 0 200 30"
      style={{ height }}
      className="w-full"
      preserveAspectRatio="none"
      role="img"
      aria-label={low === high ? `always ${exactly(low)}` : `from ${exactly(low)} to ${exactly(high)}`}
    >
      <polyline points={points} fill="none" stroke="var(--ink)" strokeWidth="1.3" vectorEffect="non-scaling-stroke" />
    </svg>
  );
}
