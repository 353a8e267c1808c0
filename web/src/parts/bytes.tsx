import { useRef, useState } from "react";
import { look } from "./look";

export type Tint = { tint: number; line: number; field: string };

/** Bytes in rows of twelve, in hexadecimal; tinted by the line that reads them, dashed where none does. */
export function HexRow({
  hex,
  lit,
  tints,
  onHover,
  onPick,
  picked,
}: {
  hex: string;
  lit?: Set<number>;
  tints?: Map<number, Tint[]>;
  onHover?: (byte: number | null) => void;
  onPick?: (byte: number) => void;
  picked?: [number, number] | null;
}) {
  const bytes = hex.match(/../g) ?? [];
  const shown = bytes.slice(0, 256);
  const [stop, setStop] = useState(0);
  const grid = useRef<HTMLDivElement>(null);
  const go = (to: number) => {
    const next = Math.min(Math.max(to, 0), shown.length - 1);
    setStop(next);
    grid.current?.querySelector<HTMLElement>(`[data-byte="${next}"]`)?.focus();
  };
  const steps: Record<string, number> = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -12, ArrowDown: 12 };
  const rows: string[][] = [];
  for (let i = 0; i < shown.length; i += 12) rows.push(shown.slice(i, i + 12));
  if (!bytes.length) return <p className="text-second">The payload is empty.</p>;
  return (
    <div
      ref={grid}
      role="grid"
      aria-label="Payload bytes"
      className="font-mono text-[13px]"
      onMouseLeave={() => onHover?.(null)}
      onKeyDown={(event) => {
        const step = steps[event.key];
        if (event.altKey || event.ctrlKey || event.metaKey) return;
        if (step) go(Math.min(stop, shown.length - 1) + step);
        else if (event.key === "Home") go(0);
        else if (event.key === "End") go(shown.length - 1);
        else return;
        event.preventDefault();
        event.stopPropagation();
      }}
    >
      <div className="flex pl-8 text-[10.5px] text-third" aria-hidden>
        {Array.from({ length: Math.min(12, bytes.length) }, (_, i) => (
          <span key={i} className="w-[30px] text-center">
            {i}
          </span>
        ))}
      </div>
      {rows.map((row, r) => (
        <div key={r} role="row" className="flex items-center">
          <span className="w-8 text-[10.5px] text-third" aria-hidden>
            {r * 12}
          </span>
          {row.map((byte, c) => {
            const index = r * 12 + c;
            const marks = tints?.get(index) ?? [];
            const on = lit?.has(index);
            return (
              <button
                key={index}
                type="button"
                role="gridcell"
                data-byte={index}
                tabIndex={index === Math.min(stop, shown.length - 1) ? 0 : -1}
                aria-label={`byte ${index}: ${byte}${readBy(marks, Boolean(tints))}`}
                className={look(
                  `relative h-7 w-[30px] uppercase ${on ? "bg-selected font-bold" : "bg-raised"}`,
                  `${picked && index >= picked[0] && index <= picked[1] ? "outline-2 outline-ink" : ""}`,
                  `${tints && !marks.length ? "outline-1 -outline-offset-2 outline-dashed outline-edge" : ""}`,
                )}
                onMouseEnter={() => onHover?.(index)}
                onFocus={() => {
                  setStop(index);
                  onHover?.(index);
                }}
                onClick={() => onPick?.(index)}
              >
                {byte}
                <span className="absolute inset-x-0.5 bottom-0 flex h-[4px]">
                  {marks.slice(0, 4).map((m, i) => (
                    <span key={i} className="flex-1" style={tintStyle(m.tint)} />
                  ))}
                </span>
              </button>
            );
          })}
        </div>
      ))}
      {bytes.length > shown.length && <p className="text-second">… and {bytes.length - shown.length} bytes more</p>}
    </div>
  );
}

/** What reads a byte, in words; nothing where that is not known. */
function readBy(marks: Tint[], known: boolean): string {
  if (marks.length) return `, ${marks.map((m) => m.field).join(", ")}`;
  return known ? ", read by nothing" : "";
}

/** A muted hue with a pattern of its own, so that ties survive colour blindness. */
export function tintStyle(tint: number): React.CSSProperties {
  const colour = `var(--tint-${(tint % 6) + 1})`;
  const pattern = Math.floor(tint / 6) % 3;
  if (pattern === 0) return { background: colour };
  if (pattern === 1) return { background: `repeating-linear-gradient(90deg, ${colour} 0 4px, transparent 4px 7px)` };
  return { background: `repeating-linear-gradient(90deg, ${colour} 0 2px, transparent 2px 4px)` };
}

/** The bits of some bytes, those of one mark lit. */
export function BitRow({
  hex,
  first,
  last,
  high,
  low,
  little,
}: {
  hex: string;
  first: number;
  last: number;
  high: number;
  low: number;
  little: boolean;
}) {
  const order = Array.from({ length: last - first + 1 }, (_, i) => (little ? last - i : first + i));
  const bits = order
    .map((i) =>
      parseInt(hex.slice(i * 2, i * 2 + 2) || "0", 16)
        .toString(2)
        .padStart(8, "0"),
    )
    .join("");
  const top = bits.length - 1;
  return (
    <div className="font-mono text-[13px]">
      <span className="mr-2 text-second">{first === last ? `byte ${first}` : `bytes ${first} to ${last}`}</span>
      {bits.split("").map((bit, i) => {
        const at = top - i;
        const on = at <= high && at >= low;
        return (
          <span key={i} className={`${on ? "bg-selected font-bold" : "text-second"} ${i % 4 === 3 ? "pr-1.5" : ""}`}>
            {bit}
          </span>
        );
      })}
    </div>
  );
}
