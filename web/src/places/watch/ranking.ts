/** Several devices' curves of one quantity, in equal parts of a span, held against each other. */
export type Course = { device: string; values: (number | null)[] };
export type Ranked = Course & {
  /** mean distance from the middle of all, with its sign */ off: number;
  last: number | null;
};

function quantile(sorted: number[], share: number): number {
  const place = (sorted.length - 1) * share;
  const below = Math.floor(place);
  const low = sorted[below] ?? 0;
  return low + ((sorted[below + 1] ?? low) - low) * (place - below);
}

/** Of each part the tenth, the middle and the ninetieth percentile of all; null where nothing is known. */
export function bandOf(courses: Course[], parts: number): { low: number; middle: number; high: number }[] {
  return Array.from({ length: parts }, (_, k) => {
    const known = courses.flatMap((c) => c.values[k] ?? []).sort((a, b) => a - b);
    if (known.length === 0) return { low: NaN, middle: NaN, high: NaN };
    return { low: quantile(known, 0.1), middle: quantile(known, 0.5), high: quantile(known, 0.9) };
  });
}

/** Those farthest from the middle first. */
export function ranked(courses: Course[], parts: number): Ranked[] {
  const band = bandOf(courses, parts);
  return courses
    .map((course) => {
      const apart = course.values.flatMap((v, k) => (v === null ? [] : [v - (band[k]?.middle ?? v)]));
      const known = course.values.filter((v): v is number => v !== null);
      return {
        ...course,
        off: apart.length ? apart.reduce((a, b) => a + b, 0) / apart.length : 0,
        last: known[known.length - 1] ?? null,
      };
    })
    .sort((a, b) => Math.abs(b.off) - Math.abs(a.off));
}
