import type { Schemas } from "../../api/client";

export type Limit = Schemas["LimitAt"];

/** The text with another number at a limit, in the limit's unit. */
export function withLimit(text: string, limit: Limit, value: number): string {
  const rows = text.split("\n");
  const row = rows[limit.line - 1] ?? "";
  const unit = limit.unit && limit.unit !== "1" ? ` ${limit.unit}` : "";
  rows[limit.line - 1] = `${row.slice(0, limit.column - 1)}${value}${unit}${row.slice(limit.end_column - 1)}`;
  return rows.join("\n");
}

/** The line of a rule with another deadband, none where it is 0; it stands before the delay. */
export function withDeadband(text: string, limit: Limit, value: number): string {
  const unit = limit.band_unit && limit.band_unit !== "1" ? ` ${limit.band_unit}` : "";
  return onLine(text, limit, (row, note) => {
    const rest = row.replace(/\s+deadband\s+[\d.]+(?:e-?\d+)?(?:\s+(?!held\b)[^\s#]+)?/, "");
    if (value <= 0) return rest + note;
    const held = /\s+held\s+[\d.]+\s+\S+\s*$/.exec(rest);
    const end = held ? held.index : rest.length;
    return `${rest.slice(0, end)} deadband ${value}${unit}${rest.slice(end)}${note}`;
  });
}

/** The line of a rule with another delay, none where it is 0; it stands last. */
export function withDelay(text: string, limit: Limit, seconds: number): string {
  return onLine(text, limit, (row, note) => {
    const rest = row.replace(/\s+held\s+[\d.]+\s+\S+\s*$/, "");
    return rest + (seconds > 0 ? ` held ${duration(seconds)}` : "") + note;
  });
}

/** A line changed, its remark left behind it. A text in quotes is no remark. */
function onLine(text: string, limit: Limit, change: (row: string, note: string) => string): string {
  const rows = text.split("\n");
  const row = rows[limit.line - 1] ?? "";
  const remark = /^((?:[^"#]|"(?:[^"\\]|\\.)*")*?)(\s*#.*)?$/.exec(row);
  rows[limit.line - 1] = change((remark?.[1] ?? row).trimEnd(), remark?.[2] ?? "");
  return rows.join("\n");
}

/** Seconds as a text of the language says them: whole hours, minutes, else seconds. */
export const duration = (seconds: number) =>
  seconds % 3600 === 0 ? `${seconds / 3600} h` : seconds % 60 === 0 ? `${seconds / 60} min` : `${seconds} s`;
