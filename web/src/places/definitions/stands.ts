import type { Schemas } from "../../api/client";

/** Where a line's address stands in the message on show, as its decoder counts bytes; null where nothing is read. */
export function placeOf(marks: Schemas["MarkOut"][], line: number, text: string, untaken: boolean): string | null {
  if (untaken) return "This message does not take this line.";
  const base = /^decoder\b.*\bcounted from 1\b/m.test(text) ? 1 : 0;
  const own = marks.filter((m) => m.line === line).flatMap((m) => m.places.slice(0, 1));
  const told = own
    .slice(0, 3)
    .map(({ first, last }) => (first === last ? `byte ${first + base}` : `bytes ${first + base} to ${last + base}`));
  if (!told.length) return null;
  const more = own.length > told.length ? ", and so on" : "";
  return `In this message: ${told.join(", then ")}${more}${own.length > 1 ? ` (${own.length} times)` : ""}.`;
}
