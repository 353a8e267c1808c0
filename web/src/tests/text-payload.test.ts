import { expect, it } from "vitest";
import { segments } from "../parts/text-payload";

const place = (first: number, last: number) => ({ first, last, high: 7, low: 0, whole: true, little: false });
const mark = (line: number, first: number, last: number) => ({
  line,
  field: `f${line}`,
  turn: 0,
  places: [place(first, last)],
  raw: null,
  paths: [],
  spots: [],
});
const hexOf = (text: string) =>
  [...new TextEncoder().encode(text)].map((b) => b.toString(16).padStart(2, "0")).join("");

it("cuts a text where lines take of it, the narrower one first, rows at the ends of lines", () => {
  const rows = segments(hexOf("é;a 1\r\nx;b 2\n"), [mark(3, 0, 1), mark(4, 3, 5), mark(5, 5, 5), mark(3, 8, 8)]);
  expect(rows.map((row) => row.map((s) => [s.text, s.line]))).toEqual([
    [
      ["é", 3],
      [";", null],
      ["a ", 4],
      ["1", 5],
      ["", null],
    ],
    [
      ["x", 3],
      [";b 2", null],
    ],
  ]);
});
