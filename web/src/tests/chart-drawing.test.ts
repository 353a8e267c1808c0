import type uPlot from "uplot";
import { clearest } from "../parts/chart-drawing";

vi.mock("uplot", () => ({ default: { pxRatio: 1 } }));

/** A plot of 600 pixels over 600 seconds, with a value a second that is as high as it says. */
const plot = (of: (second: number) => number | null) => {
  const times = Array.from({ length: 600 }, (_, k) => k);
  return {
    bbox: { left: 0, top: 0, width: 600, height: 100 },
    data: [times, times.map(of)],
    series: [{}, { scale: "y" }],
    posToVal: (at: number) => at,
    valToPos: (value: number) => 100 - value,
  } as unknown as uPlot;
};

describe("the word of a limit", () => {
  it("stands at the left while no curve is there", () => {
    expect(
      clearest(
        plot(() => 90),
        50,
        80,
        [1],
      ),
    ).toBe(8);
    expect(
      clearest(
        plot(() => null),
        50,
        80,
        [1],
      ),
    ).toBe(8);
  });

  it("stands at the first place where it covers none", () => {
    const u = plot((second) => (second < 200 ? 50 : 90));
    expect(clearest(u, 50, 80, [1])).toBeCloseTo(209.6, 6);
    expect(clearest(u, 50, 80, [])).toBe(8);
  });

  it("stands farthest from them where there is no such place", () => {
    expect(
      clearest(
        plot((second) => (second < 500 ? 50 : 56)),
        50,
        80,
        [1],
      ),
    ).toBeCloseTo(512, 6);
  });
});
