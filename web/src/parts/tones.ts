/** How curves in one plot are told apart, beside their names: by tone and dash. */
const TONES: { ink: string; dash: number[]; width: number }[] = [
  { ink: "ink", dash: [], width: 1.4 },
  { ink: "ink", dash: [7, 3], width: 1.4 },
  { ink: "second", dash: [], width: 2 },
  { ink: "ink", dash: [2, 3], width: 1.6 },
  { ink: "second", dash: [9, 3, 2, 3], width: 1.6 },
  { ink: "third", dash: [], width: 1.4 },
  { ink: "third", dash: [6, 4], width: 1.8 },
  { ink: "second", dash: [3, 3], width: 1.2 },
];
export const MOST_LINES = TONES.length;

/** Of the line at a place, the first being 0. */
export const tone = (k: number) => TONES[k % TONES.length] ?? { ink: "ink", dash: [], width: 1.4 };
