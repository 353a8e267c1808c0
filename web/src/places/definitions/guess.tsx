import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../../api/client";
import { exactly, NameProblem, Trouble, Wrong } from "../../parts/basics";
import { Curve } from "../../parts/curve";
import { exact } from "../../parts/time";
import { UnitField } from "../../parts/unit-field";
import { wrongName } from "../../parts/written";
import { ofGuess } from "./queries";

type Guess = Schemas["GuessOut"];
type Field = Schemas["FieldOut"];
const SCALE = /^[*/+-]\s*\d+(\.\d+)?(\s*[*/+-]\s*\d+(\.\d+)?)*$/;

/** Bytes read in every plausible way, over the last messages: the right one is known by its curve. */
export function Guesses({
  type,
  device,
  hex,
  first,
  last,
  taken,
  declared,
  write,
  close,
}: {
  type: string;
  device: string | null;
  hex: string;
  first: number;
  last: number;
  taken: Set<string>;
  declared: Field[];
  write: (line: string) => void;
  close: () => void;
}) {
  const [name, setName] = useState("");
  const [scale, setScale] = useState("");
  const [chosenUnit, setUnit] = useState<string | null>(null);
  const [bits, setBits] = useState<[number, number]>([7, 0]);
  const length = hex.length / 2;
  const found = useQuery(ofGuess({ type, device, length, first, last }));
  const field = name.trim();
  const known = declared.find((f) => f.name === field);
  const unit = chosenUnit ?? (known?.unit && known.unit !== "1" ? known.unit : "");
  const wrong = wrongName(field, "_");
  const double = taken.has(field);
  const odd = scale.trim() !== "" && !SCALE.test(scale.trim());
  const ready = field !== "" && !wrong && !double && !odd;
  const rows = found.data?.guesses ?? [];
  const single = first === last;
  const [high, low] = bits;
  const tail = [scale.trim(), unit].filter(Boolean).join("  ");
  const byteNow = parseInt(hex.slice(first * 2, first * 2 + 2) || "0", 16);
  const plain = single && (rows.find((g) => g.storage === "u8")?.values ?? []).every((v) => v === 0 || v === 1);
  const bitsNow = (byteNow >> low) & ((1 << (high - low + 1)) - 1);
  const bitsLine =
    high === low
      ? `  byte ${first} bit ${high}  ${field}  flag`
      : `  byte ${first} bits ${high} to ${low}  ${field}  u${high - low + 1}${tail ? ` ${tail}` : ""}`;
  return (
    <section
      className="my-2 shrink-0 border-l-3 border-line pl-3"
      aria-label="Ways of reading"
      onKeyDown={(e) => e.key === "Escape" && !e.defaultPrevented && close()}
    >
      <div className="flex flex-wrap items-center gap-2">
        <h2>
          {single ? `Byte ${first}` : `Bytes ${first} to ${last}`}
          <span>
            {" "}
            · over the last {found.data?.messages ?? "…"} messages of {length} bytes
          </span>
        </h2>
        <button type="button" className="link ml-auto" onClick={close}>
          close
        </button>
      </div>
      <Trouble error={found.error} />
      <div className="my-1 grid grid-cols-[minmax(0,1fr)_84px_112px] gap-2 text-[11.5px] text-second">
        <label>
          name
          <input
            className="input !min-h-7"
            value={name}
            autoFocus
            spellCheck={false}
            autoComplete="off"
            list="declared-fields"
            placeholder="water_temp"
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label>
          scale
          <input
            className="input !min-h-7 font-mono"
            value={scale}
            spellCheck={false}
            autoComplete="off"
            placeholder="/ 100"
            aria-invalid={odd}
            onChange={(e) => setScale(e.target.value)}
          />
        </label>
        <div>
          unit
          <UnitField label="unit" look="!min-h-7" value={unit} onChange={setUnit} />
        </div>
      </div>
      <datalist id="declared-fields">
        {declared
          .filter((f) => !taken.has(f.name))
          .map((f) => (
            <option key={f.name} value={f.name} />
          ))}
      </datalist>
      {(wrong || double || odd) && (
        <p className="text-[12px]">
          <Wrong>
            {double
              ? `${field} is read already`
              : odd
                ? "a scale is arithmetic on the raw number: / 100, * 0.1 - 40"
                : wrong && <NameProblem wrong={wrong} take={setName} />}
          </Wrong>
        </p>
      )}
      {last - first > 7 && <p>Choose at most eight bytes.</p>}
      <ul className="rows">
        {plain && (
          <Way
            word="flag"
            said={byteNow ? "yes" : "no"}
            off={!ready}
            take={() => write(`  byte ${first}  ${field}  flag`)}
          >
            <span className="text-second">it is 0 or 1</span>
          </Way>
        )}
        {rows.map((g) => (
          <Way
            key={`${g.storage} ${g.order}`}
            word={`${g.storage}${g.order ? ` ${g.order}` : ""}`}
            said={said(g)}
            off={!ready}
            take={() => write(lineOf(g, first, field) + (g.what === "time" || !tail ? "" : ` ${tail}`))}
          >
            {g.values.length < 2 ? <span className="text-second">too few messages</span> : <Curve values={g.values} />}
          </Way>
        ))}
        {single && (
          <Way
            word="bits"
            said={high === low ? (bitsNow ? "yes" : "no") : String(bitsNow)}
            off={!ready}
            take={() => write(bitsLine)}
          >
            <span className="flex items-center gap-1 text-[12.5px]">
              <BitPick label="highest bit" value={high} put={(n) => setBits([n, Math.min(n, low)])} /> to{" "}
              <BitPick label="lowest bit" value={low} put={(n) => setBits([Math.max(n, high), n])} />
              <span className="text-second">{high === low ? "one bit: a flag" : ""}</span>
            </span>
          </Way>
        )}
      </ul>
    </section>
  );
}

/** One way of reading: its name, its curve, what it says now, and the button that takes it. */
function Way({
  word,
  said,
  off,
  take,
  children,
}: {
  word: string;
  said: string;
  off: boolean;
  take: () => void;
  children: React.ReactNode;
}) {
  return (
    <li className="row-line !min-h-7 grid grid-cols-[96px_minmax(0,1fr)_84px_auto] items-center gap-3">
      <span className="font-mono text-[12.5px]">{word}</span>
      {children}
      <span className="truncate text-right">{said}</span>
      <button type="button" className="link" disabled={off} aria-label={`take ${word}`} onClick={take}>
        take
      </button>
    </li>
  );
}

function BitPick({ label, value, put }: { label: string; value: number; put: (bit: number) => void }) {
  return (
    <select
      className="input !h-6 !min-h-6 !w-auto py-0"
      aria-label={label}
      value={value}
      onChange={(e) => put(Number(e.target.value))}
    >
      {[7, 6, 5, 4, 3, 2, 1, 0].map((bit) => (
        <option key={bit}>{bit}</option>
      ))}
    </select>
  );
}

function said(g: Guess) {
  const last = g.values[g.values.length - 1];
  if (last === null || last === undefined) return "none";
  return g.what === "time" ? exact(new Date(last * 1000)) : exactly(last);
}

/** The line that reads these bytes in this way. */
export function lineOf(g: { storage: string; order: string | null }, first: number, name: string) {
  const order = g.order && !g.storage.includes(" ") ? ` ${g.order}` : "";
  return `  byte ${first}  ${name}  ${g.storage}${order}`;
}
