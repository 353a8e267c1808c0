import "../src/styles.css";
import "uplot/dist/uPlot.min.css";
import { useState } from "react";
import { flushSync } from "react-dom";
import { createRoot } from "react-dom/client";
import { Chart, type Line, type More } from "../src/parts/chart";

/** How long the chart takes for eight lines of 20,000 points, and for a point more on each: milliseconds. */
const [LINES, POINTS, STEPS] = [8, 20_000, 60];
const CADENCE = 30;
const start = 1_700_000_000;

function walk(seed: number): Line {
  let value = 20 + seed;
  let state = seed * 7919 + 1;
  const t: number[] = [];
  const v: number[] = [];
  for (let k = 0; k < POINTS; k++) {
    state = (state * 1103515245 + 12345) % 2147483648;
    value += (state / 2147483648 - 0.5) * 0.4;
    t.push(start + k * CADENCE);
    v.push(Math.round(value * 100) / 100);
  }
  return { t, v };
}

const further = (line: Line): Line => ({
  t: [...line.t.slice(1), (line.t[line.t.length - 1] as number) + CADENCE],
  v: [...line.v.slice(1), (line.v[line.v.length - 1] as number) + 0.1],
});

let advance: () => void = () => undefined;
let show: () => void = () => undefined;

function Bench() {
  const [lines, setLines] = useState(() => Array.from({ length: LINES }, (_, k) => walk(k)));
  const [shown, setShown] = useState(false);
  advance = () => setLines(lines.map(further));
  show = () => setShown(true);
  const [first, ...rest] = lines as [Line, ...Line[]];
  const more: More[] = rest.map((line, k) => ({ label: `line ${k + 2}`, unit: "V", line, gapS: 300 }));
  const end = first.t[first.t.length - 1] as number;
  return shown ? (
    <Chart
      label="line 1"
      unit="V"
      line={first}
      gapS={300}
      more={more}
      from={end - POINTS * CADENCE}
      to={end}
      height={360}
    />
  ) : null;
}

const frame = () => new Promise<void>((done) => requestAnimationFrame(() => setTimeout(done, 0)));

async function timed(work: () => void): Promise<number> {
  await frame();
  const begun = performance.now();
  flushSync(work);
  await new Promise<void>((done) => queueMicrotask(done));
  await new Promise<void>((done) => setTimeout(done, 0));
  return performance.now() - begun;
}

async function measure() {
  await document.fonts.ready;
  const first = await timed(() => show());
  const steps: number[] = [];
  for (let k = 0; k < STEPS; k++) steps.push(await timed(() => advance()));
  (window as unknown as { measured: unknown }).measured = { first, steps };
}

createRoot(document.getElementById("root") as HTMLElement).render(<Bench />);
setTimeout(() => void measure(), 300);
