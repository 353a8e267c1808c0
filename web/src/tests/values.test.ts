import type { Schemas } from "../api/client";
import { together } from "../places/definitions/values";

const value = (field: string, at: number, device: string | null = null): Schemas["ReadingOut"] => ({
  field,
  kind: "number",
  unit: "m",
  value: at,
  text: null,
  missing: null,
  at: new Date(at * 1000).toISOString(),
  device,
});

test("values of one field of one device stand together, in the order in which fields first come", () => {
  const found = together([value("b", 1), value("a", 1), value("b", 2), value("b", 1, "box 2"), value("a", 2)]);
  expect(found.map((g) => [g[0]?.field, g[0]?.device, g.map((v) => v.value)])).toEqual([
    ["b", null, [1, 2]],
    ["a", null, [1, 2]],
    ["b", "box 2", [1]],
  ]);
});
