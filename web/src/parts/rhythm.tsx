/** Messages over the lookback as strokes against what the cadence promises: gaps and failures are seen at once. */
export function Rhythm({
  counts,
  failing,
  expected,
  knownFrom = 0,
  width = 150,
  height = 18,
  title,
  fluid = false,
}: {
  counts: number[];
  failing: number[];
  expected: number | null;
  /** The first part in which the device was known: before it nothing is missing. */
  knownFrom?: number;
  width?: number;
  height?: number;
  title?: string;
  /** As wide as its box. */
  fluid?: boolean;
}) {
  const step = width / counts.length;
  const most = expected && expected > 0.2 ? expected : Math.max(1, ...counts);
  const lost = counts.filter((n, i) => n === 0 && i >= knownFrom).length;
  return (
    <svg
      width={fluid ? "100%" : width}
      height={height}
      viewBox={`0 0 ${width} ${height}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={
        title ??
        `${counts.reduce((a, b) => a + b, 0)} messages; ${lost} of ${counts.length - knownFrom} intervals without one`
      }
      className="shrink-0"
    >
      {counts.map((n, i) => {
        const x = i * step + step / 2;
        if (n === 0)
          return i < knownFrom || (expected !== null && expected < 1) ? null : (
            <line
              key={i}
              x1={i * step}
              x2={(i + 1) * step}
              y1={height - 1.5}
              y2={height - 1.5}
              stroke="var(--ink)"
              strokeWidth="2"
              vectorEffect="non-scaling-stroke"
            />
          );
        const tall = Math.max(3, Math.min(1, n / most) * (height - 2));
        const bad = (failing[i] ?? 0) * 2 >= n;
        return (
          <line
            key={i}
            x1={x}
            x2={x}
            y1={height}
            y2={height - tall}
            stroke={bad ? "var(--ink)" : "var(--edge)"}
            strokeWidth={bad ? 2 : 1.2}
            strokeDasharray={bad ? "2 2" : undefined}
            vectorEffect="non-scaling-stroke"
          />
        );
      })}
    </svg>
  );
}
