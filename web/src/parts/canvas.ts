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
