import { useEffect, useRef } from "react";
import { tintStyle } from "./bytes";
import { harmless } from "./harmless";

export type Spot = { tint: number; line: number; field: string };
export type Step = string | number;

const keyOf = (path: Step[]) => JSON.stringify(path);

/** What lies at each place of a document, by its path. */
export function spotsByPath(marks: { line: number; field: string; spots: unknown[][] }[], tints: Map<number, number>) {
  const found = new Map<string, Spot[]>();
  for (const m of marks)
    for (const spot of m.spots) {
      const key = keyOf(spot as Step[]);
      found.set(key, [...(found.get(key) ?? []), { tint: tints.get(m.line) ?? 0, line: m.line, field: m.field }]);
    }
  return found;
}

/** A document as a tree: what a line reads carries its tint, the rest can be picked to be read. */
export function Tree({
  document,
  spots,
  line,
  onLine,
  onPick,
}: {
  document: unknown;
  spots: Map<string, Spot[]>;
  line: number | null;
  onLine: (line: number) => void;
  onPick?: (path: Step[], value: unknown) => void;
}) {
  const rows: { path: Step[]; name: string; value: unknown; depth: number }[] = [];
  const walk = (value: unknown, path: Step[], name: string) => {
    if (rows.length >= 400) return;
    rows.push({ path, name, value, depth: path.length });
    if (Array.isArray(value)) value.slice(0, 60).forEach((v, i) => walk(v, [...path, i], `[${i}]`));
    else if (value && typeof value === "object") for (const [k, v] of Object.entries(value)) walk(v, [...path, k], k);
  };
  if (Array.isArray(document)) document.slice(0, 60).forEach((v, i) => walk(v, [i], `[${i}]`));
  else if (document && typeof document === "object") for (const [k, v] of Object.entries(document)) walk(v, [k], k);
  const list = useRef<HTMLUListElement>(null);
  // What the line reads comes into view, unless a part of it is there already.
  useEffect(() => {
    const box = list.current;
    const lit = [...(box?.querySelectorAll<HTMLElement>("[data-lit]") ?? [])];
    if (!box || !lit[0]) return;
    const seen = (row: HTMLElement) =>
      row.offsetTop + row.offsetHeight > box.scrollTop && row.offsetTop < box.scrollTop + box.clientHeight;
    if (!lit.some(seen)) box.scrollTop = lit[0].offsetTop - box.clientHeight / 3;
  }, [line]);
  return (
    <ul
      ref={list}
      tabIndex={0}
      className="relative max-h-72 overflow-auto bg-raised p-2 font-mono text-[12.5px]"
      aria-label="Payload"
    >
      {rows.map((r) => {
        const own = spots.get(keyOf(r.path)) ?? [];
        const leaf = r.value === null || typeof r.value !== "object";
        const on = own.some((s) => s.line === line);
        return (
          <li
            key={keyOf(r.path)}
            data-lit={on || undefined}
            className={`flex items-center gap-2 ${on ? "bg-selected font-bold" : ""}`}
            style={{ paddingLeft: `${(r.depth - 1) * 14}px` }}
            onMouseEnter={() => own[0] && onLine(own[0].line)}
          >
            <span className="h-4 w-1.5 shrink-0" style={own[0] ? tintStyle(own[0].tint) : undefined} />
            <span className="text-second">{r.name}</span>
            {leaf ? (
              <span className="truncate">{shown(r.value)}</span>
            ) : (
              <span className="text-third">{Array.isArray(r.value) ? `${r.value.length} in a list` : ""}</span>
            )}
            {leaf && own.length === 0 && onPick && (
              <button type="button" className="link ml-auto text-[12px]" onClick={() => onPick(r.path, r.value)}>
                read it
              </button>
            )}
            {own.length > 0 && <span className="ml-auto truncate text-[12px] text-second">{own[0]?.field}</span>}
          </li>
        );
      })}
      {rows.length >= 400 && <li className="text-second">… and more</li>}
    </ul>
  );
}

const plain = /^[a-z][a-z0-9_]*$/;

/** A path as the language writes it. */
export const written = (path: Step[]) =>
  path
    .map((s, i) => (typeof s === "number" ? `[${s}]` : `${i ? "." : ""}${plain.test(s) ? s : JSON.stringify(s)}`))
    .join("");

/** A name for a field, from the last key that is one. */
export function nameFrom(path: Step[], taken: Set<string>): string {
  const last = [...path].reverse().find((s) => typeof s === "string") ?? "value";
  const base =
    String(last)
      .toLowerCase()
      .replace(/[^a-z0-9_]+/g, "_")
      .replace(/^[^a-z]+/, "") || "value";
  let name = base;
  for (let n = 2; taken.has(name); n += 1) name = `${base}_${n}`;
  return name;
}

/** A value as its document has it; bytes and numbers beyond 53 bits come as texts with a word before them. */
function shown(value: unknown): string {
  if (typeof value !== "string") return harmless(JSON.stringify(value));
  if (/^bytes [0-9a-f]*$/.test(value)) return value;
  return /^whole -?\d{16,}$/.test(value) ? value.slice(6) : harmless(JSON.stringify(value));
}

/** The kind that a value of a document suggests. */
export function kindOf(value: unknown): string {
  if (typeof value === "boolean") return "flag";
  if (typeof value === "number") return "number";
  if (typeof value === "string" && /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d/.test(value)) return "time iso";
  if (typeof value === "string" && value.startsWith("bytes ")) return "hex";
  if (typeof value === "string" && value.startsWith("whole ")) return value.startsWith("whole -") ? "i64" : "u64";
  return value === null ? "number" : "text";
}
