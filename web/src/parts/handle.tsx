import { useRef } from "react";
import { heightOf, type Place, valueAt } from "./chart";
import { look } from "./look";

export type Held = {
  /** What it is called: "limit", "deadband". */
  label: string;
  value: number;
  /** How the value is said, with its unit. */
  words: string;
  /** One press of an arrow key. */
  step: number;
  move: (value: number) => void;
  /** Named at the right end of the line, so that lines near each other can be told apart. */
  right?: boolean;
  /** To which side of the line it is taken hold of, so that lines near each other are out of each other's way. */
  lean: "up" | "down";
};

/** A line across the plot that is moved by pointer, or by arrow keys: ten steps with Shift, or Page Up and Down. */
export function LineHandle({ held, place }: { held: Held; place: Place }) {
  const box = useRef<HTMLDivElement>(null);
  const at = held.lean === "up" ? 21 : 3; // where the line stands in what is taken hold of
  const y = Math.min(Math.max(heightOf(place, held.value), place.top), place.top + place.height);
  return (
    <div
      ref={box}
      role="slider"
      tabIndex={0}
      aria-label={held.label}
      aria-orientation="vertical"
      aria-valuenow={held.value}
      aria-valuetext={held.words}
      aria-valuemin={place.low}
      aria-valuemax={place.high}
      title={`${held.label}: ${held.words}. Drag it, or use the arrow keys`}
      className="line-handle"
      style={{ left: place.left, width: place.width, top: y - at, ["--at" as string]: `${at}px` }}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        event.currentTarget.focus();
        event.preventDefault();
      }}
      onPointerMove={(event) => {
        if (!event.currentTarget.hasPointerCapture(event.pointerId)) return;
        const top = event.currentTarget.parentElement?.getBoundingClientRect().top ?? 0;
        held.move(rounded(valueAt(place, event.clientY - top), held.step));
      }}
      onKeyDown={(event) => {
        const by = { ArrowUp: 1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key];
        if (by === undefined || event.altKey) return;
        event.preventDefault();
        event.stopPropagation();
        held.move(rounded(held.value + by * (event.shiftKey ? 10 : 1) * held.step, held.step));
      }}
    >
      <span className={look("line-handle-word", held.right ? "right-2" : "left-3")}>{held.words}</span>
    </div>
  );
}

/** A stretch of time below the plot, as long as a delay; its end is moved by pointer or arrow keys. */
export function DelayHandle({
  seconds,
  words,
  step,
  move,
  place,
}: {
  seconds: number;
  words: string;
  step: number;
  move: (seconds: number) => void;
  place: Place;
}) {
  const scale = place.width / (place.to - place.from);
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label="delay"
      aria-valuenow={seconds}
      aria-valuetext={words}
      aria-valuemin={0}
      title={`${words}: how long the rule has to hold. Drag its end, or use the arrow keys`}
      className="delay-handle"
      style={{ marginLeft: place.left, ["--wide" as string]: `${Math.min(Math.max(seconds * scale, 4), 240)}px` }}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        event.currentTarget.focus();
        event.preventDefault();
      }}
      onPointerMove={(event) => {
        if (!event.currentTarget.hasPointerCapture(event.pointerId)) return;
        const left = event.currentTarget.getBoundingClientRect().left;
        move(Math.max(rounded((event.clientX - left) / scale, step), 0));
      }}
      onKeyDown={(event) => {
        const by = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1, PageUp: 10, PageDown: -10 }[event.key];
        if (by === undefined || event.altKey) return;
        event.preventDefault();
        event.stopPropagation();
        move(Math.max(rounded(seconds + by * step, step), 0));
      }}
    >
      <span className="delay-handle-bar" />
      {words}
    </div>
  );
}

/** To whole steps, without the digits that binary fractions leave. */
export const rounded = (value: number, step: number) => Number((Math.round(value / step) * step).toPrecision(10));

/** A step that is fine enough on a scale from `low` to `high`, and round. */
export function fine(low: number, high: number): number {
  const span = Math.abs(high - low) || 1;
  const power = 10 ** Math.floor(Math.log10(span / 100));
  return [1, 2, 5, 10].map((n) => n * power).find((s) => span / s <= 150) ?? 10 * power;
}
