import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type PointerEvent } from "react";
import { type Schemas } from "../api/client";
import { useLiveState } from "../api/live";
import { ofBand } from "../api/queries";
import { colour, fillState, penOf, STATES, useGroundWord, useWidth } from "./canvas";
import { useKeys, useNow } from "./keys";
import { look } from "./look";
import { SPANS, spanWord, useLookback } from "./lookback-state";
import { Key } from "./marks";
import { clock, day, exact, minutes, ticks, tickWord, zoneWord } from "./time";

const BANDS = [86400, 7 * 86400, 30 * 86400, 90 * 86400, 365 * 86400];
/** The shortest band that holds a span. */
const bandOf = (spanS: number) => BANDS.find((s) => s >= spanS) ?? BANDS.at(-1)!;
const HEIGHT = 40;
const LABEL = 46; // px that a label of the axis takes
type Bucket = Schemas["Bucket"];

function draw(
  canvas: HTMLCanvasElement,
  buckets: Bucket[],
  from: number,
  to: number,
  bucketS: number,
  devices: number,
) {
  const width = canvas.clientWidth;
  const pen = penOf(canvas, width, HEIGHT);
  if (!pen) return;
  const x = (t: number) => ((t - from) / (to - from)) * width;
  const most = Math.max(devices, 1);
  const tall = HEIGHT - 7;
  for (const b of buckets) {
    const t = new Date(b.at).getTime();
    const left = Math.round(x(t));
    const right = Math.round(x(t + bucketS * 1000));
    if (right <= 0 || left >= width) continue;
    const wide = Math.max(1, right - left - (right - left > 3 ? 1 : 0));
    let base = HEIGHT;
    for (const state of STATES) {
      const high = (b[state] / most) * tall;
      if (high) fillState(pen, state, left, base - high, wide, high);
      base -= high;
    }
    if (b.alarm && b.worst) {
      pen.fillStyle = colour(b.worst);
      pen.fillRect(left, 0, wide, 5);
    }
  }
}

/** What an hour of the band held, in words. */
const held = (b: Bucket) =>
  `${b.reporting} report, ${b.overdue} overdue, ${b.silent} silent, ${b.undecodable} undecodable; ${b.alarm} in alarm`;

/** The fleet's health over time, and the control of time: drag a span or its end, press Now to come back. */
export function LookbackBand() {
  const lookback = useLookback();
  const now = useNow(lookback.live ? 1000 : 15_000);
  const state = useLiveState();
  const [bandS, setBandS] = useState(() => bandOf(Math.max(lookback.spanS, 7 * 86400)));
  const [anchor, setAnchor] = useState<number | null>(null);
  const end = anchor ?? Math.ceil(now.getTime() / 60_000) * 60_000;
  const start = end - bandS * 1000;
  const health = useQuery({ ...ofBand(start, bandS, anchor), refetchInterval: 60_000, placeholderData: (old) => old });
  const canvas = useRef<HTMLCanvasElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const [drag, setDrag] = useState<{
    kind: "new" | "move" | "start" | "end";
    at: number;
    from: number;
    to: number;
  } | null>(null);
  const [hover, setHover] = useState<number | null>(null);
  const ground = useGroundWord();
  const wide = useWidth(box);

  useEffect(() => {
    if (canvas.current && health.data)
      draw(canvas.current, health.data.buckets, start, end, health.data.bucket_s, health.data.devices);
  }, [health.data, start, end, ground, wide]);

  const [from, to] = drag ? [drag.from, drag.to] : lookback.bounds(now).map((d) => d.getTime());
  const share = (t: number) => Math.min(Math.max((t - start) / (end - start), 0), 1) * 100;
  /** Whether a label would be cut at the right edge. */
  const cramped = (t: number) => (1 - share(t) / 100) * wide < LABEL;
  const timeAt = (event: PointerEvent) => {
    const rect = (box.current as HTMLDivElement).getBoundingClientRect();
    return start + Math.min(Math.max((event.clientX - rect.left) / rect.width, 0), 1) * (end - start);
  };
  const settle = (a: number, b: number) => {
    const [low, high] = a < b ? [a, b] : [b, a];
    const span = Math.max((high - low) / 1000, 600);
    lookback.set({ spanS: span, to: high > Date.now() - Math.max(bandS * 4, 60_000) ? null : new Date(high) });
  };
  const step = (sign: number) => {
    const [, b] = lookback.bounds(new Date());
    const next = b.getTime() + sign * lookback.spanS * 250;
    lookback.set({ to: next >= Date.now() ? null : new Date(next) });
    if (next < start) setAnchor(null);
  };
  useKeys({
    "Alt+ArrowLeft": () => step(-1),
    "Alt+ArrowRight": () => step(1),
    "Alt+Home": () => lookback.set({ to: null }),
  });
  const near = (t: number, edge: number) => Math.abs(t - edge) < ((end - start) / Math.max(wide, 1)) * 7;
  const hovered =
    hover !== null && health.data
      ? health.data.buckets.find((b) => {
          const t = new Date(b.at).getTime();
          return hover >= t && hover < t + health.data.bucket_s * 1000;
        })
      : undefined;
  const marked = ticks(start, end, wide < 500 ? 4 : 10);

  return (
    <section
      aria-label="Lookback"
      className="grid grid-cols-[1fr_auto] items-center gap-x-3 px-4 py-1.5 md:grid-cols-[150px_1fr_auto]"
    >
      <div className="leading-tight">
        <label className="sr-only" htmlFor="lookback-span">
          span shown
        </label>
        <select
          id="lookback-span"
          className="-ml-1 min-h-6 bg-transparent font-bold"
          value={SPANS.includes(lookback.spanS) ? lookback.spanS : "own"}
          onChange={(e) => {
            const s = Number(e.target.value);
            lookback.set({ spanS: s });
            if (s > bandS) setBandS(bandOf(s));
          }}
        >
          {SPANS.map((s) => (
            <option key={s} value={s}>
              Last {spanWord(s)}
            </option>
          ))}
          {!SPANS.includes(lookback.spanS) && <option value="own">{spanWord(lookback.spanS)}</option>}
        </select>
        <div className="hidden items-center gap-1 text-[12px] text-second md:flex">
          <label className="sr-only" htmlFor="lookback-band">
            band
          </label>
          of
          <select
            id="lookback-band"
            className="min-h-6 bg-transparent"
            value={bandS}
            onChange={(e) => setBandS(Number(e.target.value))}
          >
            {BANDS.map((s) => (
              <option key={s} value={s}>
                {spanWord(s)}
              </option>
            ))}
          </select>
          · {zoneWord(now)}
        </div>
        <div className="hidden text-[11.5px] text-second md:block">
          <Key>Alt ←</Key> <Key>→</Key> step
        </div>
      </div>
      <div className="col-span-2 row-start-2 md:col-span-1 md:row-start-auto">
        <div
          ref={box}
          className="relative touch-none"
          style={{ height: HEIGHT }}
          onPointerDown={(event) => {
            const t = timeAt(event);
            event.currentTarget.setPointerCapture(event.pointerId);
            const kind = near(t, to as number)
              ? "end"
              : near(t, from as number)
                ? "start"
                : t > (from as number) && t < (to as number)
                  ? "move"
                  : "new";
            setDrag({
              kind,
              at: t,
              from: kind === "new" ? t : (from as number),
              to: kind === "new" ? t : (to as number),
            });
          }}
          onPointerMove={(event) => {
            const t = timeAt(event);
            setHover(t);
            if (!drag) return;
            if (drag.kind === "new") setDrag({ ...drag, to: t });
            else if (drag.kind === "end") setDrag({ ...drag, to: t });
            else if (drag.kind === "start") setDrag({ ...drag, from: t });
            else setDrag({ ...drag, at: t, from: drag.from + t - drag.at, to: Math.min(drag.to + t - drag.at, end) });
          }}
          onPointerUp={() => {
            if (drag && (drag.kind !== "new" || Math.abs(drag.to - drag.from) > (end - start) / 300))
              settle(drag.from, drag.to);
            else if (drag) lookback.set({ to: drag.at > Date.now() - bandS * 4 ? null : new Date(drag.at) });
            setDrag(null);
          }}
          onPointerLeave={() => setHover(null)}
        >
          <canvas
            ref={canvas}
            className="absolute inset-0 h-full w-full"
            role="img"
            aria-label="Devices by state, an hour a bar; alarms on top"
          />
          <div
            className="pointer-events-none absolute -inset-y-0.5 border-2 border-ink"
            style={{
              left: `${share(Math.min(from as number, to as number))}%`,
              right: `${100 - share(Math.max(from as number, to as number))}%`,
            }}
          />
          <div
            role="slider"
            tabIndex={0}
            aria-label="Moment shown"
            aria-valuemin={start}
            aria-valuemax={end}
            aria-valuenow={Math.round(to as number)}
            aria-valuetext={lookback.live ? "now, live" : exact(new Date(to as number))}
            onKeyDown={(event) => {
              if (event.altKey) return;
              if (event.key === "ArrowLeft") step(-1);
              else if (event.key === "ArrowRight") step(1);
              else if (event.key === "End") lookback.set({ to: null });
              else return;
              event.preventDefault();
            }}
            className="absolute -top-1.5 h-[52px] w-6 -translate-x-1/2 cursor-ew-resize"
            style={{ left: `${share(Math.max(from as number, to as number))}%` }}
          >
            <svg width="24" height="52" aria-hidden>
              <line x1="12" x2="12" y1="4" y2="52" stroke="var(--ink)" strokeWidth="2" />
              <path d="M7 1H17V6L12 10L7 6Z" fill="var(--ink)" />
            </svg>
          </div>
          {hovered && hover !== null && !drag && (
            <div
              className={look(
                "pointer-events-none absolute bottom-full z-20 mb-2 w-max max-w-64 -translate-x-1/2",
                "border border-edge bg-paper px-2 py-1 text-[12px]",
              )}
              style={{ left: `${Math.min(Math.max(share(hover), 8), 92)}%` }}
            >
              <b>
                {day(new Date(hovered.at))} {minutes(new Date(hovered.at))}
              </b>
              : {held(hovered)}
            </div>
          )}
        </div>
        <div className="relative h-4 overflow-hidden text-[11.5px] text-second" aria-hidden>
          {marked.map((t) => (
            <span
              key={t}
              className={look(
                "absolute border-edge leading-4 whitespace-nowrap",
                `${cramped(t) ? "border-r pr-1" : "border-l pl-1"}`,
              )}
              style={cramped(t) ? { right: `${100 - share(t)}%` } : { left: `${share(t)}%` }}
            >
              {tickWord(t, now)}
            </span>
          ))}
        </div>
      </div>
      <div className="flex items-center gap-4 text-right">
        <ul className="hidden grid-cols-2 gap-x-2 text-[11.5px] leading-[15px] text-second lg:grid" aria-hidden>
          {[
            ["linear-gradient(135deg, var(--critical) 50%, var(--high) 50%)", "in alarm"],
            ["var(--quiet)", "reporting"],
            ["var(--edge)", "overdue"],
            ["repeating-linear-gradient(0deg, var(--second) 0 2px, transparent 2px 3px)", "undecodable"],
            ["var(--ink)", "silent"],
          ].map(([fill, word]) => (
            <li key={word} className="flex items-center gap-1">
              <span className="inline-block h-2 w-2" style={{ background: fill }} />
              {word}
            </li>
          ))}
        </ul>
        <div className="leading-tight">
          {lookback.live ? (
            <div role="status">
              <b>Now</b> · {state === "live" ? "live" : state === "lost" ? "not live" : "connecting"}
            </div>
          ) : (
            <button type="button" className="button strong" onClick={() => lookback.set({ to: null })}>
              Now <Key>Alt Home</Key>
            </button>
          )}
          <div className="font-mono text-[12.5px] text-second" title={exact(lookback.to ?? now)}>
            {lookback.to ? `${day(lookback.to)} ${minutes(lookback.to)}` : clock(now)}
          </div>
        </div>
      </div>
    </section>
  );
}
