import { Boundary } from "./boundary";
import { useRef, useState, type ReactNode } from "react";

const [LEAST, MOST, USUAL] = [32, 74, 58];

/** Two panes beside each other; the line between them is moved by pointer or arrow keys, and stays where it was put. */
export function Split({
  name,
  usual = USUAL,
  left,
  right,
}: {
  name: string;
  usual?: number;
  left: ReactNode;
  right: ReactNode;
}) {
  const place = `oculum.split.${name}`;
  const [share, setShare] = useState(() => Number(localStorage.getItem(place)) || usual);
  const box = useRef<HTMLDivElement>(null);
  const put = (next: number) => {
    const sound = Math.round(Math.min(Math.max(next, LEAST), MOST));
    setShare(sound);
    localStorage.setItem(place, String(sound));
  };
  return (
    <div ref={box} className="desk" style={{ "--split": `${share}%` } as React.CSSProperties}>
      {left}
      <div
        role="separator"
        tabIndex={0}
        aria-orientation="vertical"
        aria-label="Width of the text"
        aria-valuemin={LEAST}
        aria-valuemax={MOST}
        aria-valuenow={share}
        title="Drag, or use the arrow keys: the width of the text"
        className="desk-handle"
        onPointerDown={(event) => event.currentTarget.setPointerCapture(event.pointerId)}
        onPointerMove={(event) => {
          const rect = box.current?.getBoundingClientRect();
          if (rect && event.currentTarget.hasPointerCapture(event.pointerId))
            put(((event.clientX - rect.left) / rect.width) * 100);
        }}
        onKeyDown={(event) => {
          if (event.altKey) return;
          if (event.key === "ArrowLeft") put(share - 3);
          else if (event.key === "ArrowRight") put(share + 3);
          else if (event.key === "Home") put(usual);
          else return;
          event.preventDefault();
        }}
      />
      <Boundary what="This side">{right}</Boundary>
    </div>
  );
}
