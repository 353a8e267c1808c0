import { useEffect, useState, type RefObject } from "react";

/** The width of an element in px, followed as it changes. */
export function useWidth(element: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const box = element.current;
    if (!box) return;
    const watch = new ResizeObserver(() => setWidth(box.clientWidth));
    watch.observe(box);
    return () => watch.disconnect();
  }, [element]);
  return width;
}

/** The ground that is shown, light or dark: what is drawn by hand is drawn anew when it changes. */
export function useGroundWord(): string | undefined {
  const [ground, setGround] = useState(document.documentElement.dataset.ground);
  useEffect(() => {
    const watch = new MutationObserver(() => setGround(document.documentElement.dataset.ground));
    watch.observe(document.documentElement, { attributeFilter: ["data-ground"] });
    return () => watch.disconnect();
  }, []);
  return ground;
}

export type State = "reporting" | "overdue" | "silent" | "undecodable";
/** The states that a fleet is stacked by, the worst first. */
export const STATES: State[] = ["silent", "undecodable", "overdue", "reporting"];
const INKS: Record<State, string> = { silent: "ink", undecodable: "second", overdue: "edge", reporting: "quiet" };

/** A colour of the ground that is shown. */
export const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** A canvas as large as its place, in px of the screen. */
export function penOf(canvas: HTMLCanvasElement, width: number, height: number) {
  const ratio = window.devicePixelRatio || 1;
  canvas.width = width * ratio;
  canvas.height = height * ratio;
  const pen = canvas.getContext("2d");
  pen?.scale(ratio, ratio);
  return pen;
}

/** A part of a state, filled as everywhere: silent in ink, undecodable in lines, overdue grey, reporting calm. */
export function fillState(pen: CanvasRenderingContext2D, state: State, x: number, y: number, w: number, h: number) {
  pen.fillStyle = colour(INKS[state]);
  pen.fillRect(x, y, w, h);
  if (state !== "undecodable") return;
  pen.fillStyle = colour("raised");
  for (let line = y + 1; line < y + h; line += 3) pen.fillRect(x, line, w, 1);
}
