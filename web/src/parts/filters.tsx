import type { ReactNode } from "react";
import { look } from "./look";

/** One of a few, as neighbouring buttons; the chosen one is told by ground and weight. */
export function Toggles<Value extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: Value;
  options: [Value, ReactNode][];
  onChange: (value: Value) => void;
}) {
  return (
    <div className="flex flex-wrap" role="group" aria-label={label}>
      {options.map(([key, word]) => (
        <button
          key={key}
          type="button"
          aria-pressed={value === key}
          className={look(
            "-ml-px flex min-h-8 items-center gap-1.5 border border-line px-3 first:ml-0",
            `${value === key ? "bg-selected font-bold" : "hover:bg-raised"}`,
          )}
          onClick={() => onChange(key)}
        >
          {word}
        </button>
      ))}
    </div>
  );
}

/** One of many, in a line of filters. */
export function Pick({
  label,
  value,
  options,
  onChange,
  className = "",
}: {
  label: string;
  value: string | number;
  options: [string | number, string][];
  onChange: (value: string) => void;
  className?: string;
}) {
  return (
    <select
      className={`input !w-auto max-w-full ${className}`}
      aria-label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
    >
      {options.map(([key, word]) => (
        <option key={key} value={key}>
          {word}
        </option>
      ))}
    </select>
  );
}
