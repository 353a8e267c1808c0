import { expect, test } from "vitest";
import { kept, size } from "../places/storage-sizes";

test("sizes are told to three digits", () => {
  expect([0, 999, 1000, 123_456, 1_500_000, 2.5e9].map(size)).toEqual([
    "0 bytes",
    "999 bytes",
    "1 kB",
    "123 kB",
    "1.5 MB",
    "2.5 GB",
  ]);
});

test("what lies wholly before the days that are kept is freed", () => {
  const days = ["2031-01-01", "2031-01-02", "2031-01-03"].map((day) => ({ day, bytes: 10 }));
  expect(kept(days, 1, new Date("2031-01-03T12:00:00Z"))).toBe(10);
  expect(kept(days, 30, new Date("2031-01-03T12:00:00Z"))).toBe(0);
});
