import type uPlot from "uplot";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { lineOrGround } from "../parts/paths";

vi.mock("uplot", () => ({
  default: { paths: { linear: () => () => ({ stroke: "exact", fill: "below" }) }, pxRatio: 1 },
}));

/** Where a path goes, part by part. */
class Traced {
  parts: [number, number][][] = [];
  moveTo(x: number, y: number) {
    this.parts.push([[x, y]]);
  }
  lineTo(x: number, y: number) {
    this.parts[this.parts.length - 1]?.push([x, y]);
  }
  closePath() {}
  rect() {}
}

const WIDTH = 100;
const HIGH = 1000;

/** A plot of so many pixels on which a value is as high as it is, from 0 to 1000. */
const plot = (times: number[], values: (number | null | undefined)[], dash: number[] = []) =>
  ({
    data: [times, values],
    series: [{}, { scale: "y", width: 0, dash }],
    scales: {
      x: { min: 0, max: 1, ori: 0, dir: 1, key: "x" },
      y: { min: 0, max: HIGH, ori: 1, dir: 1, key: "y" },
    },
    bbox: { left: 10, top: 0, width: WIDTH, height: HIGH },
  }) as unknown as uPlot;

const drawn = (times: number[], values: (number | null | undefined)[], dash: number[] = []) => {
  const found = lineOrGround(() => "black")(plot(times, values, dash), 1, 0, times.length - 1);
  return (found?.fill as unknown as Traced).parts;
};

beforeEach(() => vi.stubGlobal("Path2D", Traced));
afterEach(() => vi.unstubAllGlobals());

describe("the ground that a line covers", () => {
  const count = 3000;
  const times = Array.from({ length: count }, (_, k) => k / count);
  const values = times.map((_, k) => 500 + 300 * Math.sin(k / 40) + ((k * 7919) % 97));

  it("reaches from the lowest to the highest value of each pixel, and to where the line comes from", () => {
    const [part, ...others] = drawn(times, values);
    expect(others).toEqual([]);
    const [tops, bottoms] = [part?.slice(0, WIDTH), part?.slice(WIDTH).reverse()];
    for (let column = 0; column < WIDTH; column++) {
      const own = values.filter((_, k) => Math.floor((times[k] as number) * WIDTH) === column);
      const before = values[times.findIndex((t) => Math.floor(t * WIDTH) === column) - 1];
      if (before !== undefined) own.push(before);
      expect(tops?.[column]?.[0]).toBe(10 + column);
      expect(tops?.[column]?.[1]).toBeCloseTo(HIGH - Math.max(...own), 6);
      expect(bottoms?.[column]?.[1]).toBeCloseTo(HIGH - Math.min(...own), 6);
    }
  });

  it("is in two parts where a value is missing, and not where another curve has a moment", () => {
    const gone = values.map((v, k) => (k === 1500 ? null : k % 3 === 1 ? undefined : v));
    const parts = drawn(times, gone);
    expect(parts.length).toBe(2);
    expect(parts[0]?.length).toBe(100); // fifty pixels, there and back
  });

  it("is broken as the line's dashes are", () => {
    const flat = times.map(() => 500);
    const parts = drawn(times, flat, [7, 3]);
    expect(parts.length).toBe(10);
    expect(parts.map((part) => [part[0]?.[0], Math.max(...part.map(([x]) => x))]).slice(0, 2)).toEqual([
      [10, 16],
      [20, 26],
    ]);
  });

  it("is none where values stand apart: there a line goes through them", () => {
    const few = times.slice(0, 200);
    expect(lineOrGround(() => "black")(plot(few, values), 1, 0, 199)).toEqual({ stroke: "exact", fill: null });
  });

  it("is as wide as a pixel where one stands alone", () => {
    const alone = values.map((v, k) => (k === 1500 ? v : null));
    const [part] = drawn(times, alone);
    expect(part?.map(([x]) => x)).toEqual([60, 61, 61, 60]);
  });
});
