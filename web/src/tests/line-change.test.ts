import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { changed, moved } from "../places/definitions/line-change";

type Slot = Schemas["SlotOut"];
const TEXT = "decoder d for bytes\n  byte 0  level  u16  m  hidden";
const slot = (label: string, column: number, end_column: number, more: Partial<Slot> = {}): Slot => ({
  label,
  column,
  end_column,
  text: TEXT.split("\n")[1]!.slice(column - 1, end_column - 1),
  kind: "text",
  options: [],
  prefix: "",
  whole: column,
  optional: false,
  what: "",
  ...more,
});
const FORM: Schemas["LineForm"] = {
  title: "A field",
  line: 2,
  slots: [
    slot("where", 3, 9),
    slot("field", 11, 16),
    slot("kept as", 18, 21),
    slot("scale", 21, 21, { prefix: " ", optional: true }),
    slot("unit", 23, 24, { prefix: "  ", whole: 21, optional: true }),
    slot("range", 24, 24, { prefix: "  within ", optional: true }),
    slot("hidden", 26, 32, { kind: "word", whole: 24, optional: true, prefix: "  " }),
  ],
};

/** Every part stands where its text is. */
function fits(text: string, form: Schemas["LineForm"]) {
  const row = text.split("\n")[1]!;
  for (const s of form.slots) expect(row.slice(s.column - 1, s.end_column - 1), s.label).toBe(s.text);
}

describe("the form of a line", () => {
  it("stays in step with the text, whatever is changed in whatever order", () => {
    const edits: [number, string][] = [
      [1, "water_level"],
      [3, "/ 10"],
      [4, ""],
      [5, "0 to 6"],
      [6, ""],
      [4, "m"],
      [3, ""],
      [6, "hidden"],
      [1, "x"],
      [5, ""],
    ];
    let [text, form] = [TEXT, FORM];
    for (const [index, value] of edits) {
      text = changed(text, 2, form.slots[index]!, value);
      form = moved(form, index, value);
      fits(text, form);
    }
    expect(text.split("\n")[1]).toBe("  byte 0  x  u16  m  hidden");
  });
});
