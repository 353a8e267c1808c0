import {
  between,
  type Corner,
  featureOf,
  metres,
  moved,
  read,
  said,
  shapeOf,
  shapeWord,
  sizeWord,
  unfinished,
  withCorner,
} from "../places/map/shape";

const SQUARE: Corner[] = [
  [37, -42],
  [37, -41],
  [38, -41],
  [38, -42],
];
const HOLE: Corner[] = SQUARE.map(([a, b]) => [(a - 37) / 3 + 37.2, (b + 42) / 3 - 41.8]);

describe("the shape of a fence", () => {
  it("goes to GeoJSON and back as it was", () => {
    const one = { rings: [{ part: 0, hole: false, corners: SQUARE }] };
    const feature = featureOf(one, { note: "kept" });
    expect(feature.geometry).toEqual({
      type: "Polygon",
      coordinates: [
        [
          [-42, 37],
          [-41, 37],
          [-41, 38],
          [-42, 38],
          [-42, 37],
        ],
      ],
    });
    expect(feature.properties).toEqual({ note: "kept" });
    expect(shapeOf(feature)).toEqual(one);
    const parts = {
      rings: [
        { part: 0, hole: false, corners: SQUARE },
        { part: 0, hole: true, corners: HOLE.map(([a, b]): Corner => [Number(a.toFixed(9)), Number(b.toFixed(9))]) },
        { part: 1, hole: false, corners: SQUARE.map(([a, b]): Corner => [a + 2, b]) },
      ],
    };
    expect(featureOf(parts).geometry.type).toBe("MultiPolygon");
    expect(shapeOf(featureOf(parts))).toEqual(parts);
    const circle = { centre: [37.1, -42.2] as Corner, radius: 60 };
    expect(featureOf(circle).properties).toEqual({ radius_m: 60 });
    expect(shapeOf(featureOf(circle))).toEqual(circle);
    expect(featureOf(one, { radius_m: 60 }).properties).toEqual({});
  });
  it("says why it is none yet", () => {
    expect(unfinished({ rings: [] })).toContain("three corners");
    expect(unfinished({ rings: [{ part: 0, hole: false, corners: SQUARE.slice(0, 2) }] })).toContain("found 2");
    const hole = { part: 0, hole: true, corners: SQUARE.slice(0, 1) };
    expect(unfinished({ rings: [{ part: 0, hole: false, corners: SQUARE }, hole] })).toContain("A hole");
    expect(unfinished({ rings: [{ part: 0, hole: false, corners: SQUARE }] })).toBeNull();
    expect(unfinished({ centre: [0, 0], radius: 0 })).toContain("above 0");
  });
  it("has corners put in, taken out and moved by metres", () => {
    const shape = { rings: [{ part: 0, hole: false, corners: SQUARE }] };
    const corners = (s: ReturnType<typeof withCorner>) => ("rings" in s ? s.rings[0]!.corners : []);
    expect(corners(withCorner(shape, 0, 1, null))).toHaveLength(3);
    expect(corners(withCorner(shape, 0, 3, between(SQUARE[3]!, SQUARE[0]!), true))[4]).toEqual([37.5, -42]);
    const at = moved([37.4, -42.6], 30, -40);
    expect(metres([37.4, -42.6], at)).toBeCloseTo(50, 0);
    expect(moved([0, 0], 0, 0)).toEqual([0, 0]);
  });
  it("is written and read in degrees", () => {
    expect(read("37.43561 \u221242.61230")).toEqual([37.43561, -42.6123]);
    expect(read("37.43561, -42.61230")).toEqual([37.43561, -42.6123]);
    expect([read("37.4"), read("97 0"), read("north 3"), read("1 2 3")]).toEqual([null, null, null, null]);
    expect(said([37.43561, -42.6123])).toBe("37.43561 \u221242.61230");
  });
  it("is told in words", () => {
    expect(shapeWord({ centre: [0, 0], radius: 1500 })).toBe("Circle of 1,500 m");
    const rings = [
      { part: 0, hole: false, corners: SQUARE },
      { part: 0, hole: true, corners: HOLE },
    ];
    expect(shapeWord({ rings })).toBe("Area of 4 corners, with a hole");
    expect([sizeWord(950), sizeWord(3_360_000)]).toEqual(["950 m²", "3.36 km²"]);
  });
});
