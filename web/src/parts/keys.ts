import { useEffect, useRef, useState } from "react";

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

/** What takes Enter for itself. */
const acting = (target: EventTarget | null) =>
  target instanceof HTMLElement && target.closest("a, button, summary, [role=dialog]") !== null;

export const singleKeysOn = () => localStorage.getItem("oculum.single-keys") !== "off";

/** Keys of a screen. Single letters never act while something is typed, and can be switched off. */
export function useKeys(keys: Record<string, (event: KeyboardEvent) => void>, on = true) {
  const kept = useRef(keys);
  useEffect(() => {
    kept.current = keys;
  });
  useEffect(() => {
    if (!on) return;
    const act = (event: KeyboardEvent) => {
      const held = `${event.ctrlKey || event.metaKey ? "Ctrl+" : ""}${event.altKey ? "Alt+" : ""}`;
      const name = held + (event.key.length === 1 ? event.key.toLowerCase() : event.key);
      const found = kept.current[name];
      if (!found || event.defaultPrevented) return;
      const plain = !name.includes("Ctrl+") && !name.includes("Alt+");
      if (plain && typing(event.target)) return;
      if (plain && event.key.length === 1 && !singleKeysOn()) return;
      if (name === "Enter" && acting(event.target)) return;
      event.preventDefault();
      found(event);
    };
    window.addEventListener("keydown", act);
    return () => window.removeEventListener("keydown", act);
  }, [on]);
}

/** The moment, renewed every `ms`. */
export function useNow(ms = 1000): Date {
  const [now, setNow] = useState(() => new Date());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(new Date()), ms);
    return () => window.clearInterval(timer);
  }, [ms]);
  return now;
}
