import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { fillState, penOf, STATES, useGroundWord, useWidth, type State } from "../../parts/canvas";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Pages } from "../../parts/pages";
import { onAxis, ticks, tickWord } from "../../parts/time";
import { counted } from "../../parts/words";
import { ofBands, PARTS, ROWS } from "./queries";

type Band = Schemas["BandOut"];
const LETTERS: Record<string, State> = { s: "silent", u: "undecodable", o: "overdue", r: "reporting" };
const WAYS: [string, string][] = [
  ["site", "by site"],
  ["gateway", "by gateway"],
  ["type", "by type"],
  ["firmware", "by firmware"],
  ["all", "all together"],
];
const TALL = 26;
const ROW = 18;

/** How many devices of a group were in which state, a column a part of the span. */
function Stack({ band, parts }: { band: Band; parts: number }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const width = useWidth(canvas);
  const ground = useGroundWord();
  useEffect(() => {
    const pen = canvas.current && penOf(canvas.current, width, TALL);
    if (!pen) return;
    for (let k = 0; k < parts; k += 1) {
      const left = Math.round((k / parts) * width);
      const wide = Math.max(1, Math.round(((k + 1) / parts) * width) - left);
      let base = TALL;
      for (const state of STATES) {
        const tall = ((band[state][k] ?? 0) / Math.max(band.devices, 1)) * TALL;
        if (tall) fillState(pen, state, left, base - tall, wide, tall);
        base -= tall;
      }
    }
  }, [band, parts, width, ground]);
  const worst = STATES.slice(0, 3).flatMap((s) => {
    const most = Math.max(0, ...band[s]);
    return most ? [`at most ${most} ${s}`] : [];
  });
  return (
    <canvas
      ref={canvas}
      className="block w-full"
      style={{ height: TALL }}
      role="img"
      aria-label={`${band.title}: ${worst.join(", ") || "all report"}`}
    />
  );
}

/** One device after the other, a strip each. */
function Strips({ rows, parts }: { rows: Schemas["BandRow"][]; parts: number }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const width = useWidth(canvas);
  const ground = useGroundWord();
  useEffect(() => {
    const pen = canvas.current && penOf(canvas.current, width, rows.length * ROW);
    if (!pen) return;
    rows.forEach((row, n) => {
      // Neighbouring parts of one state are one stretch.
      for (let k = 0; k < row.states.length;) {
        let end = k + 1;
        while (end < row.states.length && row.states[end] === row.states[k]) end += 1;
        const state = LETTERS[row.states[k] ?? ""];
        const left = Math.round((k / parts) * width);
        if (state)
          fillState(pen, state, left, n * ROW + 4, Math.max(1, Math.round((end / parts) * width) - left), ROW - 8);
        k = end;
      }
    });
  }, [rows, parts, width, ground]);
  return <canvas ref={canvas} className="block w-full" style={{ height: rows.length * ROW }} aria-hidden />;
}

const told = (states: string) =>
  Object.entries(LETTERS)
    .flatMap(([letter, state]) => {
      const n = states.split(letter).length - 1;
      return n && state !== "reporting" ? [`${state} ${Math.round((n / states.length) * 100)} %`] : [];
    })
    .join(", ") || "reports throughout";

function Opened({ by, band, parts }: { by: string; band: Band; parts: number }) {
  const lookback = useLookback();
  const kept = useKept();
  const [offset, setOffset] = useState(0);
  const found = useQuery(ofBands(lookback, by, parts, band.key, offset));
  if (!found.data) return found.error ? <Trouble error={found.error} /> : <Waiting what="its devices" />;
  return (
    <div className="mb-2">
      <div className="grid grid-cols-[110px_1fr] gap-x-2">
        <ul aria-label={`Devices of ${band.title}`}>
          {found.data.rows.map((row) => (
            <li key={row.name} className="truncate text-[12.5px]" style={{ height: ROW, lineHeight: `${ROW}px` }}>
              <Link className="hover:underline" to={kept(`/devices/${row.name}`)} title={told(row.states)}>
                {row.title}
                <span className="sr-only">: {told(row.states)}</span>
              </Link>
            </li>
          ))}
        </ul>
        <Strips rows={found.data.rows} parts={parts} />
      </div>
      {band.devices > ROWS && (
        <div className="mt-1 flex items-center justify-end gap-3">
          <Pages offset={offset} size={ROWS} count={band.devices} go={setOffset} />
        </div>
      )}
    </div>
  );
}

/** The fleet's states over the lookback, by what devices have in common; a group opens into its devices. */
export function Bands() {
  const lookback = useLookback();
  const [by, setBy] = useState("site");
  const [open, setOpen] = useState<string | null>(null);
  const found = useQuery(ofBands(lookback, by, PARTS));
  const bands = found.data?.bands ?? [];
  const start = found.data ? new Date(found.data.start).getTime() : 0;
  const end = start + (found.data?.part_s ?? 0) * 1000 * PARTS;
  return (
    <section aria-label="States over time">
      <div className="mb-1 flex items-end gap-3">
        <h2 className="flex-1">
          States over time <span>· press a group to open it</span>
        </h2>
        <Pick
          label="Group"
          value={by}
          options={WAYS}
          onChange={(value) => {
            setBy(value);
            setOpen(null);
          }}
        />
      </div>
      <Trouble error={found.error} />
      {!found.data && !found.error && <Waiting what="the states" />}
      {bands.map((band) => (
        <div key={band.key}>
          <button
            type="button"
            className="grid w-full grid-cols-[110px_1fr] items-center gap-x-2 py-0.5 text-left hover:bg-raised"
            aria-expanded={open === band.key}
            onClick={() => setOpen(open === band.key ? null : band.key)}
          >
            <span className="min-w-0 leading-tight">
              <span className="block truncate text-[13px] font-semibold" title={band.title}>
                {band.title}
              </span>
              <span className="block text-[11.5px] text-second">{counted(band.devices, "device")}</span>
            </span>
            <Stack band={band} parts={PARTS} />
          </button>
          {open === band.key && <Opened by={by} band={band} parts={PARTS} />}
        </div>
      ))}
      {found.data && (
        <div className="relative ml-[118px] h-4 text-[11.5px] text-second" aria-hidden>
          {ticks(start, end, 5)
            .filter((t) => (t - start) / (end - start) < 0.96)
            .map((t) => (
              <span
                key={t}
                className="absolute -translate-x-1/2 whitespace-nowrap"
                style={{ left: `${((t - start) / (end - start)) * 100}%` }}
                title={onAxis(new Date(t), end - start)}
              >
                {tickWord(t)}
              </span>
            ))}
        </div>
      )}
    </section>
  );
}
