const STEPS: [number, string][] = [
  [1e12, "TB"],
  [1e9, "GB"],
  [1e6, "MB"],
  [1e3, "kB"],
];

/** Bytes to three digits, in decimal units. */
export function size(bytes: number): string {
  for (const [step, unit] of STEPS) if (bytes >= step) return `${Number((bytes / step).toPrecision(3))} ${unit}`;
  return `${bytes} bytes`;
}

/** Bytes of the days (UTC) that lie wholly before the last `days` days. */
export function kept(byDay: { day: string; bytes: number }[], days: number, now: Date): number {
  const edge = new Date(now.getTime() - days * 86_400_000).toISOString().slice(0, 10);
  return byDay.reduce((sum, one) => (one.day < edge ? sum + one.bytes : sum), 0);
}
