import { useState, type CSSProperties } from "react";
import type { Schemas } from "../../api/client";
import { shown } from "../../parts/basics";
import { look } from "../../parts/look";
import { lasting } from "../../parts/time";
import { titled, unitOf } from "../../parts/units";
import { percent } from "../watch/figures";

type Type = Schemas["TypeOut"];

/** Columns that the list has of itself; all others are asked for. */
export const FIXED = new Set(["type", "site", "rhythm", "heard", "gateway"]);
export const USUAL = ["type", "site", "rhythm", "heard"];
export const FIGURES: Record<string, string> = {
  availability: "Arrived",
  decoded: "Decoded",
  complete: "Complete",
  delay: "Delay",
  clock: "Clock ahead",
  alarm: "In alarm",
};
export const NAMES: Record<string, string> = {
  type: "Type",
  site: "Site",
  gateway: "Gateway",
  rhythm: "Rhythm",
  heard: "Last heard",
  ...FIGURES,
};
const ORDERED = Object.keys(NAMES);
export const MOST = 8;
const KEY = "oculum.device-columns";

/** Type and site stand before what is wrong, all else behind it. */
export const before = (name: string) => name === "type" || name === "site";

/** Which columns the list has, kept in this browser. */
export function useColumns(): [string[], (next: string[]) => void] {
  const [columns, setColumns] = useState<string[]>(() => {
    try {
      const kept: unknown = JSON.parse(localStorage.getItem(KEY) ?? "");
      if (Array.isArray(kept)) return kept.filter((name) => typeof name === "string").slice(0, MOST + FIXED.size);
    } catch {
      // nothing is kept, or nothing that can be read
    }
    return USUAL;
  });
  return [
    columns,
    (next) => {
      const place = (name: string) => (ORDERED.indexOf(name) + 1 || ORDERED.length + 1) + (name === "heard" ? 99 : 0);
      const sorted = [...new Set(next)].sort((a, b) => place(a) - place(b));
      localStorage.setItem(KEY, JSON.stringify(sorted));
      setColumns(sorted);
    },
  ];
}

/** Widths of the columns, for a window that is wide enough. */
export function columnsOf(columns: string[]): CSSProperties {
  const width = (name: string) => ({ type: 120, site: 120, rhythm: 170, heard: 96, gateway: 110 })[name] ?? 84;
  const ahead = columns.filter(before).map(width);
  const behind = columns.filter((name) => !before(name)).map(width);
  const all = [20, 150, ...ahead, WRONG, ...behind];
  const px = (of: number[]) => of.map((w) => `${w}px`);
  return {
    "--wide": [...px([20, 150, ...ahead]), `minmax(${WRONG}px,1fr)`, ...px(behind)].join(" "),
    "--least": `${all.reduce((sum, w) => sum + w + GAP, 0)}px`,
  } as CSSProperties;
}

const [WRONG, GAP] = [150, 12];

/** A column as people read it. */
export function columnWord(name: string, types: Type[] | undefined): string {
  if (NAMES[name]) return NAMES[name];
  const [kind, of = ""] = name.split(/:(.*)/s);
  if (kind === "label") return titled(of);
  const spec = types?.flatMap((t) => t.fields ?? []).find((f) => f.name === of);
  return titled(of, spec?.title);
}

/** The name of a column; pressed, the list is in its order, and pressed again the other way. */
export function Head({
  name,
  order,
  types,
  sort,
  unit,
  note,
}: {
  name: string;
  order: string;
  types: Type[] | undefined;
  sort: (order: string) => void;
  unit?: string | null;
  note?: string;
}) {
  const word = columnWord(name, types);
  const right = !before(name) && name !== "rhythm";
  const sorted = order === name ? "ascending" : order === `-${name}` ? "descending" : undefined;
  const own = name.startsWith("value:") && unit ? unitOf(unit) : "";
  return (
    <span role="columnheader" aria-sort={sorted} className={look("hidden min-w-0 md:block", right ? "text-right" : "")}>
      {FIXED.has(name) && name !== "heard" ? (
        <>
          {word} {note && <span className="font-normal">· {note}</span>}
        </>
      ) : (
        <button
          type="button"
          className="max-w-full truncate hover:underline"
          title={`in the order of ${word.toLowerCase()}`}
          onClick={() => sort(sorted === "ascending" && name !== "heard" ? `-${name}` : name)}
        >
          {word} {own && <span className="font-normal">{own}</span>}
          {sorted && <span aria-hidden>{sorted === "ascending" ? " ↓" : " ↑"}</span>}
        </button>
      )}
    </span>
  );
}

/** What a column says of a device. */
export function Told({ name, value }: { name: string; value: unknown }) {
  if (value === null || value === undefined) return <span title="nothing can be said">none</span>;
  if (typeof value === "string") return value;
  if (typeof value !== "number") return "";
  if (name === "delay" || name === "alarm") return lasting(value);
  if (name === "clock") return value < 0 ? `${lasting(-value)} behind` : lasting(value);
  if (name in FIGURES) return percent(value);
  return shown(value, { kind: "number", unit: undefined });
}
