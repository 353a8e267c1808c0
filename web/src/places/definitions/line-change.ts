import type { Schemas } from "../../api/client";

type Slot = Schemas["SlotOut"];
type Form = Schemas["LineForm"];

/** The text with another value in one part of a line; an empty value takes an optional part out. */
export function changed(text: string, line: number, slot: Slot, value: string): string {
  const rows = text.split("\n");
  const row = rows[line - 1] ?? "";
  const [from, put] = edit(slot, value);
  rows[line - 1] = row.slice(0, from - 1) + put + row.slice(slot.end_column - 1);
  return rows.join("\n");
}

/** From which column up to the end of the part what is put. */
function edit(slot: Slot, value: string): [number, string] {
  if (!value.trim() && slot.optional) return [slot.whole, ""];
  return slot.column === slot.end_column ? [slot.column, slot.prefix + value] : [slot.column, value];
}

/** The form as it is after that change: the parts behind it have moved along. */
export function moved(form: Form, index: number, value: string): Form {
  const slot = form.slots[index];
  if (!slot) return form;
  const [from, put] = edit(slot, value);
  const by = put.length - (slot.end_column - from);
  return {
    ...form,
    slots: form.slots.map((other, i) => {
      if (i === index) {
        const column = put ? from + put.length - value.length : from;
        return {
          ...other,
          column,
          end_column: from + put.length,
          whole: put ? Math.min(slot.whole, from) : from,
          text: put && value,
        };
      }
      const behind = other.column > slot.column || (other.column === slot.column && i > index);
      return behind
        ? { ...other, column: other.column + by, end_column: other.end_column + by, whole: other.whole + by }
        : other;
    }),
  };
}
