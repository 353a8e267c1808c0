import { useMemo } from "react";
import type { Schemas } from "../api/client";
import { harmless } from "./harmless";

type Segment = { text: string; line: number | null; field: string };

const LINES = ["solid", "dotted", "double", "dashed"] as const;
const edge = (tint: number) => `3px ${LINES[Math.floor(tint / 6) % 4] ?? "solid"} var(--tint-${(tint % 6) + 1})`;

/** A text payload cut where lines of the decoder begin and end to take of it; of two takers the narrower. */
export function segments(hex: string, marks: Schemas["MarkOut"][]): Segment[][] {
  const bytes = Uint8Array.from(hex.match(/../g) ?? [], (pair) => parseInt(pair, 16));
  const owner: (Schemas["MarkOut"] | null)[] = new Array<Schemas["MarkOut"] | null>(bytes.length).fill(null);
  const width = new Array<number>(bytes.length).fill(Infinity);
  for (const mark of marks)
    for (const place of mark.places)
      for (let b = place.first; b <= place.last && b < bytes.length; b += 1)
        if (place.last - place.first < (width[b] ?? 0)) {
          owner[b] = mark;
          width[b] = place.last - place.first;
        }
  const decoder = new TextDecoder();
  const rows: Segment[][] = [[]];
  let from = 0;
  for (let b = 1; b <= bytes.length; b += 1) {
    const cut = b === bytes.length || owner[b] !== owner[b - 1] || bytes[b - 1] === 10 || bytes[b] === 10;
    if (!cut) continue;
    const text = decoder.decode(bytes.slice(from, b));
    if (text === "\n") rows.push([]);
    else
      rows[rows.length - 1]?.push({
        text: harmless(text.replace("\r", "")),
        line: owner[from]?.line ?? null,
        field: owner[from]?.field ?? "",
      });
    from = b;
  }
  return rows.filter((row) => row.some((s) => s.text));
}

const MOST = 40;

/** A text payload, what each line takes underlined in its tint; pointing at it lights the line. */
export function TextPayload({
  hex,
  marks,
  tintOf,
  line,
  onLine,
}: {
  hex: string;
  marks: Schemas["MarkOut"][];
  tintOf: Map<number, number>;
  line: number | null;
  onLine: (line: number) => void;
}) {
  const rows = useMemo(() => segments(hex, marks), [hex, marks]);
  return (
    <div
      tabIndex={0}
      role="group"
      aria-label="Payload text"
      className="max-h-56 overflow-auto bg-raised p-2 font-mono text-[12px] leading-[22px]"
    >
      {rows.slice(0, MOST).map((row, i) => (
        <div key={i} className="flex flex-wrap">
          {row.map((s, k) =>
            s.line === null ? (
              <span key={k} className="whitespace-pre text-second">
                {s.text}
              </span>
            ) : (
              <button
                key={k}
                type="button"
                title={s.field}
                className={`whitespace-pre break-all text-left ${s.line === line ? "bg-selected font-bold" : ""}`}
                style={{ borderBottom: edge(tintOf.get(s.line) ?? 0) }}
                onMouseEnter={() => onLine(s.line ?? 0)}
                onFocus={() => onLine(s.line ?? 0)}
              >
                {s.text}
              </button>
            ),
          )}
        </div>
      ))}
      {rows.length > MOST && <p className="text-second">… and {rows.length - MOST} lines more</p>}
    </div>
  );
}
