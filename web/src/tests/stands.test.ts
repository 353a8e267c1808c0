import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { placeOf } from "../places/definitions/stands";

const mark = (line: number, first: number, last: number): Schemas["MarkOut"] => ({
  line,
  field: "x",
  turn: 0,
  raw: null,
  paths: [],
  spots: [],
  places: [{ first, last, high: 7, low: 0, whole: true, little: false }],
});

describe("where an address stands", () => {
  const marks = [mark(2, 0, 0), mark(3, 1, 2), ...[3, 5, 7, 9].map((at) => mark(5, at, at + 1))];

  it("is told by the bytes that its line reads", () => {
    expect(placeOf(marks, 2, "decoder d for bytes", false)).toBe("In this message: byte 0.");
    expect(placeOf(marks, 3, "# a\ndecoder d for bytes, counted from 1", false)).toBe("In this message: bytes 2 to 3.");
    expect(placeOf(marks, 5, "", false)).toBe(
      "In this message: bytes 3 to 4, then bytes 5 to 6, then bytes 7 to 8, and so on (4 times).",
    );
  });

  it("is nowhere in a line that reads nothing", () => {
    expect(placeOf(marks, 4, "", false)).toBeNull();
    expect(placeOf(marks, 3, "", true)).toBe("This message does not take this line.");
  });
});
