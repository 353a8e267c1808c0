import { useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import uPlot from "uplot";
import { exact, onAxis, ticks, tickWord } from "./time";
import { colour } from "./canvas";
import {
  AXIS,
  LABEL_PX,
  MARGIN,
  OWN,
  behind,
  cut,
  limitOf,
  nameEnds,
  written,
  type Among,
  type Happened,
  type LimitLine,
} from "./chart-drawing";
import { lineOrGround } from "./paths";
import { tone } from "./tones";

export type Line = { t: number[]; v: (number | null)[]; low?: number[] | null; high?: number[] | null };
export type AlarmSpan = { from: number; to: number; priority: string; open: boolean };
export type Hatched = { from: number; to: number };
/** Another curve in the same plot, with an axis of its own where its unit is another. */
export type More = { label: string; unit: string; line: Line; gapS: number; stepped?: boolean };
/** Where the plot lies in its box (px), and what its heights and widths stand for. */
export type Place = {
  left: number;
  top: number;
  width: number;
  height: number;
  low: number;
  high: number;
  from: number;
  to: number;
};
export const heightOf = (p: Place, value: number) => p.top + ((p.high - value) / (p.high - p.low)) * p.height;
export const valueAt = (p: Place, y: number) => p.high - ((y - p.top) / p.height) * (p.high - p.low);

/** Breaks a line where nothing came for longer than `gap` seconds. */
export function withGaps(line: Line, gap: number): Line {
  const { t: times } = line;
  const breaks: number[] = [];
  for (let i = 1; i < times.length; i++) if ((times[i] as number) - (times[i - 1] as number) > gap) breaks.push(i);
  const envelope = Boolean(line.low ?? line.high);
  if (!breaks.length && !envelope) return { t: times, v: line.v, low: null, high: null };
  const t: number[] = [];
  const v: (number | null)[] = [];
  const low: number[] = [];
  const high: number[] = [];
  let next = 0;
  times.forEach((at, i) => {
    if (breaks[next] === i) {
      next++;
      t.push((at + (times[i - 1] as number)) / 2);
      v.push(null);
      low.push(NaN);
      high.push(NaN);
    }
    t.push(at);
    v.push(line.v[i] ?? null);
    if (envelope) {
      low.push(line.low?.[i] ?? NaN);
      high.push(line.high?.[i] ?? NaN);
    }
  });
  return { t, v, low: line.low ? low : null, high: line.high ? high : null };
}

/** Whether curves have the same moments, so that they need not be joined. */
function sameTimes(one: number[], other: number[]): boolean {
  if (one === other) return true;
  if (one.length !== other.length) return false;
  for (let i = 0; i < one.length; i++) if (one[i] !== other[i]) return false;
  return true;
}

const NONE: never[] = [];
const short = new Intl.NumberFormat("en", { notation: "compact", maximumSignificantDigits: 4 });
const FAINT = { width: 1, spanGaps: false, points: { show: false } };

/**
 * One quantity over the lookback: a quiet ink line, limits dashed, alarms as bars at the foot. `under`: what it is made
 * of, fainter, on a scale of its own where `apart`. `bounds`: a limit that changes with time. `bands`: ranges of values
 * with a ground of their own; `reach`: values that are in view; `holds`: spans hatched above the foot. `over`: what
 * lies above the plot, `foot`: what stands below it. `more`: further curves, named at their ends; `among`: the band in
 * which most devices of the kind are. `took` is given the plot, for those who take it away as a picture. `notes`: what
 * happened, as dotted lines with a word.
 */
export function Chart({
  line,
  from,
  to,
  label,
  unit,
  limits = [],
  alarms = [],
  height = 130,
  gapS,
  stepped = false,
  onSpan,
  axis = true,
  under,
  apart = false,
  bounds,
  bands = NONE,
  reach = NONE,
  holds = NONE,
  over,
  foot,
  more = NONE,
  among,
  took,
  notes = NONE,
}: {
  line: Line;
  from: number;
  to: number;
  label: string;
  unit: string;
  limits?: LimitLine[];
  alarms?: AlarmSpan[];
  height?: number;
  gapS: number;
  stepped?: boolean;
  onSpan?: (from: number, to: number) => void;
  axis?: boolean;
  under?: Line;
  apart?: boolean;
  bounds?: Line;
  bands?: [number, number][];
  reach?: number[];
  holds?: Hatched[];
  over?: (place: Place) => ReactNode;
  foot?: (place: Place) => ReactNode;
  more?: More[];
  among?: Among;
  took?: (plot: uPlot | null) => void;
  notes?: Happened[];
}) {
  const [place, setPlace] = useState<Place | null>(null);
  const host = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const seen = {
    limits,
    alarms,
    from,
    to,
    onSpan,
    bands,
    reach,
    holds,
    more,
    among,
    placed: Boolean(over ?? foot),
    took,
    notes,
  };
  const now = useRef(seen);
  now.current = seen;
  const units = [unit, ...more.map((m) => m.unit)];
  const shape = more.map((m) => [m.label, m.unit, m.stepped].join("|")).join("\n");
  const readout = useRef<HTMLSpanElement>(null);
  const data = useMemo(() => withGaps(line, gapS), [line, gapS]);
  const limitValues = [
    ...limits.map((l) => l.value),
    ...bands.flat(),
    ...reach,
    ...holds.flatMap((h) => [h.from, h.to]),
  ].join();

  useEffect(() => {
    const box = host.current;
    if (!box) return;
    const font = "11.5px 'Hanken Grotesk Variable', sans-serif";
    const chart = new uPlot(
      {
        width: box.clientWidth,
        height,
        padding: [6, more.length ? LABEL_PX : MARGIN, 0, 0],
        cursor: {
          sync: { key: "lookback" },
          drag: { x: true, y: false, setScale: false },
          points: { size: 6, fill: () => colour("ink") },
        },
        legend: { show: false },
        scales: {
          x: { time: false, range: () => [now.current.from, now.current.to] },
          y: {
            range: (u, min, max) => {
              const { limits, bands, reach, among } = now.current;
              const tenths = [...(among?.low ?? []), ...(among?.high ?? [])].filter((v) => v !== null);
              const values = [...limits.map((l) => l.value), ...bands.flat(), ...reach, ...tenths];
              return roomy(u, Math.min(min ?? 0, ...values), Math.max(max ?? 1, ...values));
            },
          },
          beneath: {},
          ...Object.fromEntries(
            [...new Set(units.slice(1))].filter((u) => u !== unit).map((u) => [`of ${u}`, { range: roomy }]),
          ),
        },
        axes: [
          {
            show: axis,
            stroke: () => colour("second"),
            grid: { show: false },
            ticks: { show: true, stroke: () => colour("edge"), width: 1, size: 4 },
            align: 1, // a label stands from its moment on: a day's name belongs to the day after its midnight
            font,
            size: 24,
            splits: (u, _axis, low, high) => ticks(low * 1000, high * 1000, u.width / 75).map((t) => t / 1000),
            values: (u, at) => at.map((t) => (!more.length && cut(u, t) ? "" : tickWord(t * 1000))),
          },
          {
            stroke: () => colour("second"),
            grid: { stroke: () => colour("line"), width: 1 },
            ticks: { show: false },
            font,
            size: AXIS,
            space: 34,
            label: more.length ? unit : undefined,
            labelSize: 16,
            labelFont: font,
            values: amounts,
          },
          ...[...new Set(units.slice(1))]
            .filter((u) => u !== unit)
            .map((u) => ({
              scale: `of ${u}`,
              side: 1 as const,
              stroke: () => colour("second"),
              grid: { show: false },
              ticks: { show: true, stroke: () => colour("edge"), width: 1, size: 4 },
              font,
              size: AXIS,
              space: 34,
              label: u || "1",
              labelSize: 16,
              labelFont: font,
              values: amounts,
            })),
        ],
        series: [
          {},
          {
            label,
            stroke: () => colour("ink"),
            width: 1.4,
            spanGaps: false,
            points: { show: false },
            paths: stepped ? uPlot.paths.stepped?.({ align: 1 }) : lineOrGround(() => colour("ink")),
          },
          { stroke: "transparent", points: { show: false } },
          { stroke: "transparent", points: { show: false } },
          { ...FAINT, stroke: () => `color-mix(in srgb, ${colour("ink")} 38%, transparent)` },
          { ...FAINT, scale: "beneath", stroke: () => `color-mix(in srgb, ${colour("ink")} 38%, transparent)` },
          { ...FAINT, dash: [5, 4], stroke: () => colour("ink"), paths: uPlot.paths.stepped?.({ align: 1 }) },
          ...now.current.more.map((m, k) => ({
            label: m.label,
            scale: m.unit === unit ? "y" : `of ${m.unit}`,
            stroke: () => colour(tone(k + 1).ink),
            width: tone(k + 1).width,
            dash: tone(k + 1).dash,
            spanGaps: false,
            points: { show: false },
            paths: m.stepped ? uPlot.paths.stepped?.({ align: 1 }) : lineOrGround(() => colour(tone(k + 1).ink)),
          })),
        ],
        bands: [{ series: [3, 2], fill: () => `color-mix(in srgb, ${colour("ink")} 16%, transparent)` }],
        hooks: {
          drawClear: [
            (u) => {
              const { left, width } = u.bbox;
              u.ctx.save(); // the plot goes by what it has set last
              u.ctx.fillStyle = colour("selected");
              for (const [a, b] of now.current.bands) {
                const [y, z] = [u.valToPos(Math.max(a, b), "y", true), u.valToPos(Math.min(a, b), "y", true)];
                u.ctx.fillRect(left, y, width, Math.max(z - y, 1));
              }
              u.ctx.restore();
              if (now.current.among) behind(u, now.current.among);
            },
          ],
          draw: [
            (u) => {
              const pen = u.ctx;
              const ratio = uPlot.pxRatio;
              const { left, top, width, height: tall } = u.bbox;
              if (now.current.placed) {
                const { min: low = 0, max: high = 1 } = u.scales.y ?? {};
                setPlace((old) =>
                  same(old, {
                    left: left / ratio,
                    top: top / ratio,
                    width: width / ratio,
                    height: tall / ratio,
                    low: low ?? 0,
                    high: high ?? 1,
                    from: now.current.from,
                    to: now.current.to,
                  }),
                );
              }
              pen.save();
              pen.strokeStyle = colour("ink");
              pen.lineWidth = ratio;
              for (const held of now.current.holds) {
                const a = Math.max(u.valToPos(held.from, "x", true), left);
                const b = Math.min(u.valToPos(held.to, "x", true), left + width);
                if (b <= a) continue;
                pen.save();
                pen.beginPath();
                pen.rect(a, top + tall - 13 * ratio, Math.max(b - a, 2 * ratio), 7 * ratio);
                pen.clip();
                pen.beginPath();
                for (let x = a - 8 * ratio; x < b + 8 * ratio; x += 4 * ratio) {
                  pen.moveTo(x, top + tall - 5 * ratio);
                  pen.lineTo(x + 8 * ratio, top + tall - 14 * ratio);
                }
                pen.stroke();
                pen.restore();
              }
              const shown = [1, ...now.current.more.map((_, k) => OWN + k)];
              for (const limit of now.current.limits) limitOf(u, limit, shown);
              for (const alarm of now.current.alarms) {
                const a = Math.max(u.valToPos(alarm.from, "x", true), left);
                const b = Math.min(u.valToPos(alarm.to, "x", true), left + width);
                if (b < left || a > left + width) continue;
                pen.fillStyle = colour(alarm.priority);
                pen.fillRect(a, top + tall - 5 * ratio, Math.max(b - a, 2 * ratio), 5 * ratio);
              }
              if (now.current.notes.length) written(u, now.current.notes);
              pen.restore();
              if (now.current.more.length) nameEnds(u, [label, ...now.current.more.map((m) => m.label)]);
            },
          ],
          setCursor: [
            (u) => {
              const i = u.cursor.idx;
              if (!readout.current) return;
              const t = i === null || i === undefined ? undefined : u.data[0]?.[i];
              const said = i === null || i === undefined ? [] : [1, ...now.current.more.map((_, k) => OWN + k)];
              const values = said.map((k) => [k, lastValue(u.data[k], i as number)] as const);
              readout.current.textContent =
                t === undefined || values.every(([, v]) => v === undefined)
                  ? ""
                  : [
                      onAxis(new Date(t * 1000), (now.current.to - now.current.from) * 1000),
                      ...values.map(([k, v]) => {
                        const of = k === 1 ? unit : (now.current.more[k - OWN]?.unit ?? "");
                        return v === undefined ? "none" : `${Number(v.toPrecision(6))} ${of}`.trim();
                      }),
                    ].join(" · ");
              readout.current.title = t === undefined ? "" : exact(new Date(t * 1000));
            },
          ],
          setSelect: [
            (u) => {
              if (u.select.width > 6)
                now.current.onSpan?.(u.posToVal(u.select.left, "x"), u.posToVal(u.select.left + u.select.width, "x"));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
        },
      },
      Array.from({ length: OWN + now.current.more.length }, () => []) as unknown as uPlot.AlignedData,
      box,
    );
    plot.current = chart;
    now.current.took?.(chart);
    const size = new ResizeObserver(() => chart.setSize({ width: box.clientWidth, height }));
    size.observe(box);
    const ground = new MutationObserver(() => chart.redraw(true, true));
    ground.observe(document.documentElement, { attributeFilter: ["data-ground"] });
    return () => {
      size.disconnect();
      ground.disconnect();
      chart.destroy();
      plot.current = null;

      now.current.took?.(null);
    };
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [height, label, unit, stepped, axis, shape]);

  useEffect(() => {
    const clean = (values: number[] | null | undefined) => (values ?? []).map((v) => (Number.isNaN(v) ? null : v));
    const none = data.t.map(() => null);
    const low = data.low ? clean(data.low) : none;
    const high = data.high ? clean(data.high) : none;
    const own = [data.t, data.v, low, high] as uPlot.AlignedData;
    const beneath = under && withGaps(under, gapS);
    const rest = [beneath && [beneath.t, beneath.v], bounds && [bounds.t, bounds.v]] as (
      uPlot.AlignedData | undefined
    )[];
    const lines = more.map((m) => withGaps(m.line, m.gapS));
    if (!rest.some(Boolean) && !lines.length)
      return plot.current?.setData([...own, none, none, none] as unknown as uPlot.AlignedData);
    if (!rest.some(Boolean) && lines.every((l) => sameTimes(l.t, data.t)))
      return plot.current?.setData([
        ...own,
        none,
        none,
        none,
        ...lines.map((l) => l.v),
      ] as unknown as uPlot.AlignedData);
    const blank: uPlot.AlignedData = [[], []];
    const kept = uPlot.join([
      own,
      apart ? blank : (rest[0] ?? blank),
      apart ? (rest[0] ?? blank) : blank,
      rest[1] ?? blank,
      ...lines.map((l): uPlot.AlignedData => [l.t, l.v]),
    ]);
    plot.current?.setData(kept);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [
    line,
    under,
    bounds,
    apart,
    from,
    to,
    limitValues,
    alarms.length,
    notes,
    height,
    label,
    unit,
    stepped,
    axis,
    more,
    among,
  ]);

  const values = line.v.filter((v): v is number => v !== null);
  const some = values.slice(-4000);
  const range = [Math.min(...some), Math.max(...some)].map((v) => v.toPrecision(4)).join(" to ");
  const about = values.length ? `${values.length} values from ${range} ${unit}` : "no values";
  const move = (sign: number) => {
    const u = plot.current;
    const times = u?.data[0];
    if (!u || !times?.length) return;
    const next = Math.min(Math.max((u.cursor.idx ?? times.length) + sign, 0), times.length - 1);
    u.setCursor({ left: u.valToPos(times[next] as number, "x"), top: 10 });
  };
  return (
    <figure className="relative">
      <figcaption className="flex items-baseline gap-2">
        <b>{label}</b> <span className="unit">{unit}</span>
        <span ref={readout} className="ml-auto font-mono text-[12px] text-second" aria-live="polite" />
      </figcaption>
      {over && place && (
        <div className="pointer-events-none relative z-10 h-0">
          <div className="absolute inset-x-0 top-0" style={{ height }}>
            {over(place)}
          </div>
        </div>
      )}
      <div
        ref={host}
        role="img"
        tabIndex={0}
        aria-label={`${label}: ${about}. Arrow keys walk the values.`}
        onKeyDown={(event) => {
          if (event.altKey) return;
          if (event.key === "ArrowLeft") move(-1);
          else if (event.key === "ArrowRight") move(1);
          else return;
          event.preventDefault();
        }}
      />
      {foot && place && foot(place)}
    </figure>
  );
}

const amounts = (_: uPlot, at: number[]) =>
  at.map((v) => (Math.abs(v) >= 100_000 ? short.format(v) : String(Number(v.toPrecision(12)))));

/** A range with a margin above and below. */
function roomy(_: uPlot, min: number | null, max: number | null): [number, number] {
  const [low, high] = [min ?? 0, max ?? 1];
  const pad = (high - low || Math.abs(high) || 1) * 0.12;
  return [low - pad, high + pad];
}

/** The newest value at a place or shortly before it: curves in one plot have moments of their own. */
function lastValue(values: ArrayLike<number | null | undefined> | undefined, i: number): number | undefined {
  for (let k = i; values && k >= Math.max(0, i - 40); k--) {
    const v = values[k];
    if (v === null) return undefined;
    if (v !== undefined) return v;
  }
  return undefined;
}

/** The place as it was, where it is the same. */
const same = (old: Place | null, next: Place): Place =>
  old && (Object.keys(next) as (keyof Place)[]).every((key) => Math.abs(old[key] - next[key]) < 1e-9) ? old : next;
