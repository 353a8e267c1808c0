import { useQuery } from "@tanstack/react-query";
import { useId, useState, type CSSProperties } from "react";
import type { Schemas } from "../api/client";
import { ofLanguage } from "../api/queries";
import { printed } from "./units";

type Unit = Schemas["UnitOut"];
const MOST = 9;
const ROOM = 280; // px that the list may take
const WIDTH = 370;

/** Units that fit what was written: by code, printed form, or words; those that begin with it first. */
export function fitting(units: Unit[], text: string): Unit[] {
  const wanted = text.trim().toLowerCase();
  const rank = (u: Unit) => {
    if (u.code === text.trim()) return 0;
    const [code, form, words] = [u.code.toLowerCase(), u.printed.toLowerCase(), u.words.toLowerCase()];
    if (code.startsWith(wanted) || form.startsWith(wanted)) return 1;
    if (words.split(/[\s,]+/).some((w) => w.startsWith(wanted)) || words.startsWith(wanted)) return 2;
    return words.includes(wanted) ? 3 : 9;
  };
  return units
    .map((unit) => ({ unit, rank: rank(unit) }))
    .filter((row) => row.rank < 9)
    .sort((a, b) => a.rank - b.rank)
    .map((row) => row.unit);
}

/** Where the list of a field stands: fixed, so that no scrolling box cuts it; near an edge away from that. */
const beside = (field: DOMRect): CSSProperties => ({
  position: "fixed",
  ...(field.bottom + ROOM > window.innerHeight
    ? { bottom: window.innerHeight - field.top + 1 }
    : { top: field.bottom + 1 }),
  ...(field.left + WIDTH > window.innerWidth ? { right: window.innerWidth - field.right } : { left: field.left }),
});

/** A unit, found by words or printed form and kept as its UCUM code. */
export function UnitField({
  value,
  onChange,
  label,
  disabled = false,
  look = "",
  placeholder = "unit",
}: {
  value: string;
  onChange: (code: string) => void;
  label: string;
  disabled?: boolean;
  look?: string;
  placeholder?: string;
}) {
  const id = useId();
  const language = useQuery(ofLanguage());
  const [open, setOpen] = useState(false);
  const [place, setPlace] = useState<CSSProperties>({});
  const [at, setAt] = useState<string | null>(null);
  const found = open ? fitting(language.data?.units ?? [], value).slice(0, MOST) : [];
  const index = found.findIndex((u) => u.code === at);
  const take = (unit: Unit | undefined) => {
    if (!unit) return;
    onChange(unit.code);
    setOpen(false);
    setAt(null);
  };
  const shown = !open && value ? printed(value) : "";
  return (
    <div className="relative">
      <input
        role="combobox"
        aria-expanded={found.length > 0}
        aria-controls={`${id}-list`}
        aria-activedescendant={index >= 0 ? `${id}-${index}` : undefined}
        aria-label={label}
        className={`input ${shown && shown !== value ? "pr-12" : ""} ${look}`}
        autoComplete="off"
        spellCheck={false}
        placeholder={placeholder}
        disabled={disabled}
        value={value}
        onFocus={(e) => {
          setPlace(beside(e.currentTarget.getBoundingClientRect()));
          setOpen(true);
        }}
        onBlur={() => setOpen(false)}
        onChange={(e) => {
          onChange(e.target.value);
          setOpen(true);
          setAt(null);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(found[Math.min(index + 1, found.length - 1)]?.code ?? null);
          else if (e.key === "ArrowUp") setAt(found[Math.max(index - 1, 0)]?.code ?? null);
          else if (e.key === "Enter" && open && index >= 0) take(found[index]);
          else if (e.key === "Escape" && found.length > 0) setOpen(false);
          else return;
          e.preventDefault();
          e.stopPropagation();
        }}
      />
      {shown && shown !== value && (
        <span className="pointer-events-none absolute inset-y-0 right-2 flex items-center text-second">{shown}</span>
      )}
      <ul
        id={`${id}-list`}
        role="listbox"
        aria-label="units that fit"
        hidden={found.length === 0}
        style={place}
        className="z-40 w-max max-w-[360px] border border-edge bg-paper py-1"
      >
        {found.map((u, i) => (
          <li
            key={u.code}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === index}
            className={`flex min-h-7 cursor-pointer items-baseline gap-3 px-2.5 ${i === index ? "is-selected" : ""}`}
            onMouseDown={(e) => {
              e.preventDefault(); // the focus stays in the field
              take(u);
            }}
            onMouseMove={() => setAt(u.code)}
          >
            <b className="min-w-14">{u.printed || "–"}</b>
            <span className="truncate text-[12.5px] text-second">{u.words || u.code}</span>
            <code className="ml-auto font-mono text-[11.5px] text-second">{u.code}</code>
          </li>
        ))}
      </ul>
    </div>
  );
}
