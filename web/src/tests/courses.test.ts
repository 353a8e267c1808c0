// @vitest-environment jsdom
import { scopeOf, scoped } from "../places/definitions/beginning";
import { svgOf } from "../parts/take";
import { combined, steps, together } from "../places/watch/courses";

describe("two curves", () => {
  const one = { t: [0, 10, 20, 30], v: [1, 2, null, 4] };
  const other = { t: [5, 15, 200], v: [1, 0, 8] };

  it("are subtracted and divided at the moments of both, with what was last known of each", () => {
    expect(combined(one, other, "less", 60)).toEqual({
      t: [0, 5, 10, 15, 20, 30, 200],
      v: [null, 0, 1, 2, null, 4, null],
    });
    expect(combined(one, other, "over", 60).v).toEqual([null, 1, 2, null, null, null, null]);
  });

  it("say nothing where the other has been silent for too long", () => {
    expect(combined(one, { t: [5], v: [1] }, "less", 8).v).toEqual([null, 0, 1, null, null]);
  });

  it("go together as the formula says", () => {
    const pairs = [1, 2, 3, 4].map((x) => ({ x, y: 2 * x + 1 }));
    expect(together(pairs)).toBeCloseTo(1);
    expect(together(pairs.map(({ x, y }) => ({ x, y: -y })))).toBeCloseTo(-1);
    expect(together(pairs.map(({ x }) => ({ x, y: 5 })))).toBeNull();
    expect(together(pairs.slice(0, 2))).toBeNull();
  });

  it("have scales of round steps", () => {
    expect(steps(0.13, 0.71, 6)).toEqual([0.2, 0.3, 0.4, 0.5, 0.6, 0.7]);
    expect(steps(0, 950, 5)).toEqual([0, 200, 400, 600, 800]);
    expect(steps(3, 3, 4).length).toBeGreaterThan(0);
  });

  it("are drawn as lines that break at gaps, with what could be taken for markup made harmless", () => {
    const line = { label: "a <b>", unit: "V", line: { t: [0, 10, 100], v: [1, 2, 3] }, gapS: 20 };
    const text = svgOf([line, { ...line, label: "c", unit: "Cel" }], 0, 100, 'x "y"', "then");
    const drawing = new DOMParser().parseFromString(text, "image/svg+xml");
    expect(drawing.querySelector("parsererror")).toBeNull();
    expect([...drawing.querySelectorAll("text")].map((t) => t.textContent)).toContain("a <b>");
    const path = [...drawing.querySelectorAll("path")].find((p) => p.getAttribute("stroke-width") === "1.4");
    expect(path?.getAttribute("d")?.match(/[ML]/g)?.join("")).toBe("MLM");
  });
});

describe("a filter of the list as the scope of a definition", () => {
  it("says labels and site, and leaves out what is no property", () => {
    const filter = { type: "buoy", q: "stage=growing north firmware=2", site: "lower-reach", state: "silent" };
    const scope = scopeOf(filter);
    expect(scope).toBe('at site "lower-reach" with label stage = "growing", label firmware = "2"');
    expect(scopeOf({ type: "buoy", q: "north" })).toBe("");
    const draft = 'condition "on buoy"\n  on buoy\n  raise when level > 3 m\n';
    expect(scoped(draft, "buoy", scope)).toBe(`condition "on buoy"\n  on buoy ${scope}\n  raise when level > 3 m\n`);
    expect(scoped(draft, "buoy", "")).toBe(draft);
  });
});
