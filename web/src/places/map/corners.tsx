import { useEffect, useRef, useState } from "react";
import { TextField, Wrong } from "../../parts/basics";
import { Key } from "../../parts/marks";
import { amount } from "../../parts/written";
import { between, type Corner, moved, read, said, type Shape, withCorner } from "./shape";

const STEP_M = 10;

/** The corners of a fence as a table: walked by keys, moved by keys, written; the same as on the map. */
export function Corners({
  shape,
  corner,
  setCorner,
  change,
  editable,
}: {
  shape: Shape;
  corner: [number, number] | null;
  setCorner: (corner: [number, number] | null) => void;
  change: (shape: Shape) => void;
  editable: boolean;
}) {
  if ("centre" in shape) return <Circle shape={shape} change={change} editable={editable} />;
  return (
    <>
      {shape.rings.map((ring, k) => (
        <div key={k} className="mb-1">
          {shape.rings.length > 1 && (
            <p className="flex items-center text-[12.5px] text-second">
              {ring.hole
                ? "Hole"
                : `Outline${shape.rings.filter((r) => !r.hole).length > 1 ? ` ${ring.part + 1}` : ""}`}
              {editable && (
                <button
                  type="button"
                  className="link ml-auto"
                  onClick={() => {
                    setCorner(null);
                    const gone = (r: typeof ring, n: number) => n === k || (!ring.hole && r.part === ring.part);
                    change({ rings: shape.rings.filter((r, n) => !gone(r, n)) });
                  }}
                >
                  take it out
                </button>
              )}
            </p>
          )}
          <ol
            className="max-h-52 overflow-y-auto border border-line bg-raised font-mono text-[12.5px]"
            aria-label="Corners"
          >
            {ring.corners.map((at, n) => (
              <CornerRow
                key={`${k} ${n}`}
                at={at}
                label={`corner ${n + 1}`}
                chosen={corner?.[0] === k && corner[1] === n}
                editable={editable}
                choose={() => setCorner([k, n])}
                put={(to) => change(withCorner(shape, k, n, to))}
                remove={() => {
                  if (ring.corners.length <= 3) return;
                  setCorner([k, Math.max(n - 1, 0)]);
                  change(withCorner(shape, k, n, null));
                }}
                insert={() => {
                  const next = ring.corners[(n + 1) % ring.corners.length] as Corner;
                  setCorner([k, n + 1]);
                  change(withCorner(shape, k, n, between(at, next), true));
                }}
                walk={(by) => setCorner([k, Math.min(Math.max(n + by, 0), ring.corners.length - 1)])}
              />
            ))}
          </ol>
        </div>
      ))}
      {editable && (
        <p className="keys text-[12.5px] text-second">
          <Key>Shift</Key> <Key>↑</Key> <Key>→</Key> move it {STEP_M} m <Key>I</Key> put one in <Key>Del</Key> take it
          out <Key>Enter</Key> write it
        </p>
      )}
    </>
  );
}

function CornerRow({
  at,
  label,
  chosen,
  editable,
  choose,
  put,
  remove,
  insert,
  walk,
}: {
  at: Corner;
  label: string;
  chosen: boolean;
  editable: boolean;
  choose: () => void;
  put: (to: Corner) => void;
  remove: () => void;
  insert: () => void;
  walk: (by: number) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const row = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (chosen && text === null && row.current && row.current.closest("ol")?.contains(document.activeElement))
      row.current.focus();
  }, [chosen, text]);
  const written = text === null ? null : read(text);
  if (text !== null)
    return (
      <li>
        <input
          autoFocus
          className="input !min-h-6 !px-2 font-mono text-[12.5px]"
          aria-label={`${label}: latitude and longitude`}
          aria-invalid={!written}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onBlur={() => setText(null)}
          onKeyDown={(e) => {
            if (e.key === "Escape") setText(null);
            if (e.key !== "Enter") return;
            e.preventDefault();
            if (!written) return;
            put(written);
            setText(null);
            window.setTimeout(() => row.current?.focus());
          }}
        />
        {!written && <Wrong>latitude and longitude in degrees, as in 37.43561 −42.61230</Wrong>}
      </li>
    );
  return (
    <li>
      <button
        ref={row}
        type="button"
        className={`block min-h-6 w-full px-2 text-left ${chosen ? "is-selected" : ""}`}
        aria-label={`${label}, ${said(at)}`}
        aria-pressed={chosen}
        onClick={choose}
        onFocus={() => !chosen && choose()}
        onDoubleClick={() => editable && setText(said(at))}
        onKeyDown={(e) => {
          const way = { ArrowUp: [1, 0], ArrowDown: [-1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[e.key];
          if (way && e.shiftKey && editable) put(moved(at, (way[0] ?? 0) * STEP_M, (way[1] ?? 0) * STEP_M));
          else if (e.key === "ArrowDown") walk(1);
          else if (e.key === "ArrowUp") walk(-1);
          else if (e.key === "Enter" && editable) setText(said(at));
          else if (e.key.toLowerCase() === "i" && editable) insert();
          else if (e.key === "Delete" && editable) remove();
          else return;
          e.preventDefault();
          e.stopPropagation();
        }}
      >
        {said(at)}
      </button>
    </li>
  );
}

function Circle({
  shape,
  change,
  editable,
}: {
  shape: { centre: Corner; radius: number };
  change: (shape: Shape) => void;
  editable: boolean;
}) {
  const [centre, setCentre] = useState(said(shape.centre));
  const [radius, setRadius] = useState(String(shape.radius));
  useEffect(() => {
    setCentre(said(shape.centre));
    setRadius(String(shape.radius));
  }, [shape]);
  const at = read(centre);
  const wide = amount(radius, 1, 1e6);
  const keep = () => {
    if (at && typeof wide.value === "number") change({ centre: at, radius: wide.value });
  };
  return (
    <form
      className="flex flex-wrap items-start gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        keep();
      }}
    >
      <TextField
        label="centre"
        className="input !w-44 font-mono text-[12.5px]"
        value={centre}
        disabled={!editable}
        problem={at ? undefined : "latitude and longitude in degrees"}
        onChange={(e) => setCentre(e.target.value)}
        onBlur={keep}
      />
      <TextField
        label="radius, m"
        className="input !w-24"
        value={radius}
        disabled={!editable}
        problem={wide.problem}
        onChange={(e) => setRadius(e.target.value)}
        onBlur={keep}
      />
    </form>
  );
}
