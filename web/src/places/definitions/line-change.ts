import type { Schemas } from "../../api/client";

/** The text with another value in one part of a line; an empty value takes an optional part out. */
export function changed(text: string, line: number, slot: Schemas["SlotOut"], value: string): string {
  const rows = text.split("\n");
  const row = rows[line - 1] ?? "";
  rows[line - 1] =
    !value.trim() && slot.optional
      ? row.slice(0, slot.whole - 1) + row.slice(slot.end_column - 1)
      : slot.column === slot.end_column
        ? row.slice(0, slot.column - 1) + slot.prefix + value + row.slice(slot.column - 1)
        : row.slice(0, slot.column - 1) + value + row.slice(slot.end_column - 1);
  return rows.join("\n");
}
