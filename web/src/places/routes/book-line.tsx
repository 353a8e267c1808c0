import { useState } from "react";
import { Link } from "react-router";
import { At } from "../../parts/basics";
import { Curve } from "../../parts/curve";
import { counted } from "../../parts/words";
import type { Row } from "./queries";

const number = (n: number) => n.toLocaleString("en");

type Drag = { begin: () => void; over: boolean; drop: () => void; end: () => void };

/** One route of the book: its place, what it does, and what became of what it saw; opened, line by line. */
export function BookLine({
  row,
  own,
  to,
  span,
  last,
  move,
  drag,
}: {
  row: Row;
  own: Record<string, unknown> & { "aria-selected"?: boolean };
  to: string;
  span: string;
  last: boolean;
  move?: (by: number) => void;
  drag?: Drag;
}) {
  const [open, setOpen] = useState(false);
  const d = row.definition;
  const sentence = d.sentence ?? "";
  const blocked = row.outlets.filter((o) => o.blocked);
  const dead = d.live !== null && row.seen === 0;
  const selected = Boolean(own["aria-selected"]);
  return (
    <div
      {...own}
      className={`book-row ${selected ? "is-selected" : ""}`}
      draggable={Boolean(drag)}
      onDragStart={(e) => {
        e.dataTransfer.effectAllowed = "move";
        drag?.begin();
      }}
      onDragOver={(e) => drag?.over && e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        drag?.drop();
      }}
      onDragEnd={() => drag?.end()}
    >
      <span role="gridcell" className="pt-0.5 text-second">
        {row.place ?? "–"}
      </span>
      <span role="gridcell" className="min-w-0">
        <Link to={to} className="row-link font-semibold hover:underline">
          {d.name}
        </Link>
        {!d.live && <b className="ml-2 text-[12.5px]">{d.retired ? "ended" : "a draft, not published yet"}</b>}
        {d.live && d.draft !== d.live.text && (
          <span className="ml-2 border border-line px-1.5 text-[12px]">draft differs</span>
        )}
        {sentence && (
          <span className={`block text-[13px] text-second ${open ? "" : "book-sentence"}`} title={sentence}>
            {sentence}
          </span>
        )}
        {d.trouble && <b className="block text-[12.5px]">! no longer reads well: {d.trouble}</b>}
        {row.failed > 0 && (
          <b className="block text-[12.5px]">
            <span aria-hidden>▸ </span>
            {number(row.failed)} could not be told; they went on unchanged
          </b>
        )}
        {blocked.map((o) => (
          <b key={o.id} className="block text-[12.5px]">
            <span aria-hidden>▸ </span>
            {o.name} is blocked: {o.why || "it failed"}; {counted(o.waiting, "reading")} wait
            {o.waiting === 1 ? "s" : ""}
            {o.next_at && (
              <>
                , next try <At at={o.next_at} />
              </>
            )}
          </b>
        ))}
        {dead && <span className="block text-[12.5px] text-second">has seen nothing in {span}</span>}
        {d.live && selected && (
          <span className="mt-1 flex flex-wrap gap-3 text-[12.5px]">
            <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? "fold its lines" : `its ${counted(row.lines.length, "line")}`}
            </button>
            {move && (
              <>
                <button type="button" className="link" disabled={row.place === 1} onClick={() => move(-1)}>
                  earlier
                </button>
                <button type="button" className="link" disabled={last} onClick={() => move(1)}>
                  later
                </button>
              </>
            )}
          </span>
        )}
      </span>
      <span role="gridcell" className="text-right tabular-nums">
        {number(row.seen)}
      </span>
      <span role="gridcell" className="text-right font-bold tabular-nums">
        {number(row.took)}
      </span>
      <span role="gridcell" className="text-right text-[13px] text-second">
        {row.ends}
      </span>
      <span role="gridcell" className="self-start pt-0.5">
        <Curve values={row.curve} height={20} />
      </span>
      {open && (
        <ol className="col-span-full col-start-2 mb-1" aria-label={`Lines of ${d.name}`}>
          {row.lines.map((line) => (
            <li key={line.line} className="book-line-row text-[13px]">
              <span className="text-second">{line.line}</span>
              <span className="truncate" title={line.words}>
                {line.words}
              </span>
              <span className="text-right tabular-nums">{number(line.seen)}</span>
              <span className="text-right font-semibold tabular-nums">{number(line.took)}</span>
              <span className={`text-right ${line.failed ? "font-bold" : "text-second"}`}>
                {line.failed ? `${number(line.failed)} failed` : ""}
              </span>
              <Curve values={line.curve} height={16} />
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}
