import { expect, test } from "vitest";
import { bandOf, ranked } from "../places/watch/ranking";

const courses = [
  { device: "a", values: [1, 2, 3] },
  { device: "b", values: [1, 2, null] },
  { device: "c", values: [9, 10, 11] },
];

test("the middle of all, part by part", () => {
  expect(bandOf(courses, 3).map((b) => b.middle)).toEqual([1, 2, 7]);
  expect(bandOf([], 1)[0]?.middle).toBeNaN();
});

test("the farthest comes first, with by how much", () => {
  const found = ranked(courses, 3);
  expect(found.map((r) => r.device)).toEqual(["c", "a", "b"]);
  expect(found[0]).toMatchObject({ off: (8 + 8 + 4) / 3, last: 11 });
  expect(found[2]).toMatchObject({ off: 0, last: 2 });
});
