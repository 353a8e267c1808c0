import { keepPreviousData, useQueries, useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState, type PointerEvent } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas } from "../../api/client";
import { ofSites, ofTypes } from "../../api/queries";
import { count as number, oneOf, useAddress, word } from "../../parts/address";
import { Empty, Heading, Trouble } from "../../parts/basics";
import { colour, penOf, useGroundWord, useWidth } from "../../parts/canvas";
import { Pick, Toggles } from "../../parts/filters";
import { useKeys } from "../../parts/keys";
import { look } from "../../parts/look";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Key, StateMark, STATE_WORDS } from "../../parts/marks";
import { lasting, onAxis, ticks, tickWord } from "../../parts/time";
import { counted } from "../../parts/words";
import { clockWords, length, percent } from "./figures";
import { ofRhythm, PAGE } from "./queries";
import { gaps, strokes, told, toldOf, type Gap } from "./strokes";

type Row = Schemas["RhythmRow"];
type Found = Schemas["RhythmOut"];
/** A row of an answer with its gaps, and both in words. */
type Drawn = { row: Row; of: Found; gaps: Gap[]; words: string };
/** Heights of a row, px: names stand beside those of the first two. */
const SIZES: Record<string, number> = { large: 26, small: 16, dense: 4 };
const HEAD = 24;
const ORDERS: [string, string][] = [
  ["worst", "worst first"],
  ["name", "by name"],
  ["availability", "least arrived first"],
  ["decoded", "least decoded first"],
  ["complete", "least complete first"],
  ["-delay", "latest first"],
  ["-clock", "by clock"],
  ["-alarm", "longest in alarm first"],
  ["heard", "longest silent first"],
];
const GROUPS: [string, string][] = [
  ["", "one list"],
  ["site", "by site"],
  ["type", "by type"],
  ["gateway", "by gateway"],
  ["firmware", "by firmware"],
];
const WORDS: Record<string, string> = {
  availability: "Arrived",
  decoded: "Decoded",
  complete: "Complete",
  delay: "Delay",
  clock: "Clock",
  alarm: "In alarm",
};

const figured = (name: string, value: number | null) =>
  name === "clock" ? clockWords(value) : ["delay", "alarm"].includes(name) ? length(value) : percent(value);

/** Where Oculum did not listen, in parts of the span. */
const awayOf = (found: Found): Gap[] =>
  found.unheard.map((span) => {
    const [from = 0, to = 0] = span.map((end) => (Date.parse(end) - Date.parse(found.start)) / 1000 / found.part_s);
    return { from, to };
  });

const ADDRESS = {
  q: word,
  type: word,
  site: word,
  gateway: word,
  state: word,
  order: oneOf(
    ORDERS.map(([order]) => order),
    "worst",
  ),
  group: word,
  rows: oneOf(Object.keys(SIZES), "large"),
  row: number,
};

/** A row a device, a stroke a message or a part of the span: gaps, bursts, failures and clocks that are off. */
export default function RhythmScreen() {
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const [asked, put] = useAddress(ADDRESS, { ends: "row" });
  const search = useRef<HTMLInputElement>(null);
  const pane = useRef<HTMLDivElement>(null);
  const place = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const width = useWidth(place);
  const ground = useGroundWord();
  const [top, setTop] = useState(0);
  const [tall, setTall] = useState(400);
  const [pointed, setPointed] = useState<{ row: number; x: number; left: number } | null>(null);
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null);
  const { rows: size, row: wanted, ...filter } = asked;
  const height = SIZES[size] ?? 26;
  const named = height >= 12;
  // As many parts as can be told from each other.
  const points = Math.min(Math.max(Math.floor((width || 700) / 2.5 / 50) * 50, 50), 500);
  const first = Math.floor(top / height);
  const shown = Math.ceil(tall / height) + 1;
  const [from, to] = [Math.floor(first / PAGE), Math.floor((first + shown) / PAGE)];
  const pages = useMemo(() => Array.from({ length: to - from + 1 }, (_, k) => from + k), [from, to]);
  const combine = useCallback(
    (asked: UseQueryResult<Found>[]) => {
      const rows = new Map<number, Drawn>();
      asked.forEach((one, k) => {
        // While another page is fetched, the one before it stands in its place: it is of other rows.
        if (!one.data || one.isPlaceholderData) return;
        const { results, part_s } = one.data;
        const away = awayOf(one.data);
        results.forEach((row, i) => {
          const found = gaps(row, part_s, away);
          rows.set((pages[k] as number) * PAGE + i, {
            row,
            of: one.data,
            gaps: found,
            words: told(row, found, part_s),
          });
        });
      });
      return { rows, known: asked.find((one) => one.data)?.data, error: asked.find((one) => one.error)?.error };
    },
    [pages],
  );
  const { rows, known, error } = useQueries({
    queries: pages.map((page) => ({ ...ofRhythm(lookback, filter, points, page), placeholderData: keepPreviousData })),
    combine,
  });
  const count = known?.count ?? 0;
  const at = Math.min(wanted, Math.max(count - 1, 0));
  const go = (next: number) => {
    const to = Math.min(Math.max(next, 0), count - 1);
    put({ row: to });
    const box = pane.current;
    if (!box) return;
    if (to * height < box.scrollTop) box.scrollTop = to * height;
    else if ((to + 1) * height > box.scrollTop + box.clientHeight - HEAD)
      box.scrollTop = (to + 1) * height - box.clientHeight + HEAD;
  };
  const open = (index: number) => {
    const row = rows.get(index)?.row;
    if (row) void navigate(kept(`/devices/${row.name}`));
  };
  useKeys({
    ArrowDown: () => go(at + 1),
    ArrowUp: () => go(at - 1),
    PageDown: () => go(at + shown - 2),
    PageUp: () => go(at - shown + 2),
    Enter: () => open(at),
    f: () => search.current?.focus(),
  });
  const begin = known ? new Date(known.start).getTime() : 0;
  const spanMs = known ? known.part_s * known.parts * 1000 : lookback.spanS * 1000;
  const momentAt = (x: number) => new Date(begin + (x / Math.max(width, 1)) * spanMs);
  const partAt = (x: number) =>
    Math.min(Math.max(Math.floor((x / Math.max(width, 1)) * (known?.parts ?? 1)), 0), (known?.parts ?? 1) - 1);

  useEffect(() => {
    const box = pane.current;
    if (!box) return;
    const watch = new ResizeObserver(() => setTall(box.clientHeight));
    watch.observe(box);
    setTall(box.clientHeight);
    return () => watch.disconnect();
  }, [count]);

  useEffect(() => {
    const pen = canvas.current && width ? penOf(canvas.current, width, tall) : null;
    if (!pen || !known) return;
    const [ink, edge, line, second] = ["ink", "edge", "line", "second"].map(colour);
    const step = width / known.parts;
    pen.font = "11.5px 'Hanken Grotesk Variable', sans-serif";
    for (const tick of ticks(begin, begin + spanMs, width / 90)) {
      const x = ((tick - begin) / spanMs) * width;
      pen.fillStyle = line as string;
      pen.fillRect(x, HEAD - 4, 1, tall);
      pen.fillStyle = second as string;
      pen.fillText(tickWord(tick), x + 3, 12);
    }
    pen.save();
    pen.beginPath();
    pen.rect(0, HEAD, width, tall);
    pen.clip();
    for (let index = first; index < first + shown; index += 1) {
      const found = rows.get(index);
      if (!found) continue;
      const y = HEAD + index * height - top;
      const room = height - (named ? 5 : 1);
      if (index === at) {
        pen.fillStyle = colour("selected");
        pen.fillRect(0, y, width, height);
      }
      pen.fillStyle = ink as string;
      for (const gap of found.gaps)
        pen.fillRect(gap.from * step, y + height - (named ? 4 : 3), (gap.to - gap.from) * step, named ? 2 : 2);
      for (const one of strokes(found.row, found.of.part_s)) {
        const x = (one.part + 0.5) * step;
        const high = Math.max(one.tall * room, Math.min(3, room));
        pen.strokeStyle = one.kind === "whole" ? (edge as string) : (ink as string);
        pen.lineWidth = one.kind === "burst" ? Math.min(3, step) : one.kind === "refused" ? 1.6 : Math.min(1.2, step);
        pen.setLineDash(one.kind === "refused" && named ? [2, 2] : []);
        pen.beginPath();
        pen.moveTo(x, y + height - 2 - high);
        pen.lineTo(x - one.slant * step, y + height - 2);
        pen.stroke();
      }
      pen.setLineDash([]);
      if (named) {
        pen.fillStyle = line as string;
        pen.fillRect(0, y + height - 1, width, 1);
      }
    }
    pen.strokeStyle = edge as string;
    pen.lineWidth = 0.6;
    for (const [a, b] of awayOf(known).map(({ from, to }) => [from * step, to * step] as const)) {
      for (let x = a - tall; x < b; x += 7) {
        pen.save();
        pen.beginPath();
        pen.rect(a, HEAD, Math.max(b - a, 2), tall);
        pen.clip();
        pen.beginPath();
        pen.moveTo(x, HEAD + tall);
        pen.lineTo(x + tall, HEAD);
        pen.stroke();
        pen.restore();
      }
    }
    pen.restore();
  }, [rows, known, width, tall, top, first, shown, height, named, at, ground, begin, spanMs]);

  const where = (event: PointerEvent) => {
    const box = place.current?.getBoundingClientRect();
    const x = Math.min(Math.max(event.clientX - (box?.left ?? 0), 0), width);
    const y = event.clientY - (pane.current?.getBoundingClientRect().top ?? 0) - HEAD;
    const left = x + (box?.left ?? 0) - (pane.current?.getBoundingClientRect().left ?? 0);
    return { row: Math.floor((y + top) / height), x, y, left };
  };
  const release = (event: PointerEvent) => {
    const here = where(event);
    const began = drag?.from ?? here.x;
    setDrag(null);
    if (Math.abs(here.x - began) > 4) {
      const [from, to] = [momentAt(Math.min(began, here.x)), momentAt(Math.max(began, here.x))];
      lookback.set({ spanS: Math.max((to.getTime() - from.getTime()) / 1000, 600), to });
      return;
    }
    const found = rows.get(here.row);
    if (!found || here.y < 0) return;
    const end = momentAt(((partAt(here.x) + 1) * width) / found.of.parts);
    const query = { device: found.row.name, to: end.toISOString(), span: String(Math.max(found.of.part_s, 600)) };
    void navigate(`/arrivals?${new URLSearchParams(query).toString()}`);
  };
  const under = pointed && rows.get(pointed.row);
  const part = pointed ? partAt(pointed.x) : 0;
  const types = useQuery(ofTypes());
  const sites = useQuery(ofSites(lookback));
  const chosen = rows.get(at);
  const columns = named
    ? filter.group
      ? "gap-x-3 grid-cols-[110px_clamp(84px,16vw,190px)_minmax(0,1fr)_76px]"
      : "gap-x-3 grid-cols-[0px_clamp(84px,16vw,190px)_minmax(0,1fr)_76px]"
    : filter.group
      ? "grid-cols-[122px_0px_minmax(0,1fr)_0px]"
      : "grid-cols-[0px_0px_minmax(0,1fr)_0px]";
  return (
    <>
      <Heading
        title="Rhythm"
        about={
          known && (
            <>
              {counted(count, "device")}, {lookback.live ? "last " : ""}
              {spanWord(lookback.spanS)}; a stroke is{" "}
              {known.part_s >= 3600 ? `what came in ${lasting(known.part_s)}` : "a message"}, a bar a gap
            </>
          )
        }
      >
        <Link className="button" to={kept("/watch")}>
          Watch
        </Link>
      </Heading>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <input
          ref={search}
          className="input !w-44"
          placeholder="name, firmware=2 …"
          aria-label="Filter by words"
          value={filter.q}
          onChange={(e) => put({ q: e.target.value })}
          onKeyDown={(e) => e.key === "Enter" && pane.current?.focus()}
        />
        <Pick
          label="Type"
          value={filter.type}
          options={[["", "all types"], ...(types.data?.results ?? []).map((t): [string, string] => [t.key, t.title])]}
          onChange={(type) => put({ type })}
        />
        <Pick
          label="Site"
          value={filter.site}
          options={[["", "all sites"], ...(sites.data?.results ?? []).map((s): [string, string] => [s.name, s.title])]}
          onChange={(site) => put({ site })}
        />
        <Pick label="Group" value={filter.group} options={GROUPS} onChange={(group) => put({ group })} />
        <Pick label="Order" value={filter.order} options={ORDERS} onChange={(order) => put({ order })} />
        <Toggles
          label="Rows"
          value={size}
          options={Object.keys(SIZES).map((name) => [name, name === "dense" ? name : `${name} rows`])}
          onChange={(next) => put({ rows: next })}
        />
      </div>
      <Trouble error={error} />
      {known && count === 0 && <Empty title="No device matches.">Loosen the filter above.</Empty>}
      <p className="mb-1 flex h-6 items-center gap-x-3 overflow-hidden whitespace-nowrap text-[12.5px] text-second">
        {!known && !error && "Fetching the rhythm …"}
        {known && under ? (
          <>
            <b className="text-ink">{under.row.title}</b>
            {onAxis(momentAt((part * width) / known.parts), spanMs)}
            {known.part_s >= 60 && ` to ${onAxis(momentAt(((part + 1) * width) / known.parts), spanMs)}`}:{" "}
            {toldOf(under.row, part)}
          </>
        ) : (
          known &&
          chosen && (
            <>
              <b className="text-ink">{chosen.row.title}</b> {chosen.words}
            </>
          )
        )}
        {!under && (
          <span className="ml-auto hidden md:inline">
            <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open; drag to choose a span, press a stroke for its messages
          </span>
        )}
      </p>
      <div
        ref={pane}
        className="relative overflow-y-auto border-t border-line"
        style={{ height: `max(calc(100dvh - 258px), 260px)` }}
        onScroll={(event) => setTop(event.currentTarget.scrollTop)}
        role="grid"
        aria-label="Rhythm"
        aria-rowcount={count}
        tabIndex={0}
      >
        <div className={`sticky top-0 grid h-0 ${columns}`}>
          <span className="h-6 truncate bg-paper text-[12.5px] font-bold text-second">
            {filter.group && (rows.get(first)?.row.group ?? "")}
          </span>
          <span className="h-6 bg-paper text-[12.5px] text-second">{named && "Device"}</span>
          <div ref={place} className="h-0 min-w-0">
            <canvas
              ref={canvas}
              aria-hidden
              style={{ width, height: tall }}
              className="cursor-crosshair touch-pan-y"
              onPointerMove={(event) => {
                const here = where(event);
                setPointed(here.y < 0 ? null : here);
                if (drag) setDrag({ ...drag, to: here.x });
              }}
              onPointerLeave={() => setPointed(null)}
              onPointerDown={(event) => {
                event.currentTarget.setPointerCapture(event.pointerId);
                const { x } = where(event);
                setDrag({ from: x, to: x });
              }}
              onPointerUp={release}
              onPointerCancel={() => setDrag(null)}
            />
            {pointed && (
              <i
                className="pointer-events-none absolute w-px bg-ink"
                style={{ left: pointed.left, top: HEAD, height: tall - HEAD }}
              />
            )}
            {drag && (
              <i
                className="pointer-events-none absolute bg-ink/15"
                style={{
                  left: (pointed?.left ?? 0) + Math.min(drag.from - drag.to, 0),
                  width: Math.abs(drag.to - drag.from),
                  top: HEAD,
                  height: tall - HEAD,
                }}
              />
            )}
          </div>
          <span className="h-6 bg-paper text-right text-[12.5px] text-second">
            {named && known && WORDS[known.figure]}
          </span>
        </div>
        <div style={{ height: count * height + HEAD }} className="pointer-events-none relative">
          {!named &&
            filter.group &&
            Array.from({ length: Math.min(shown, count - first) }, (_, k) => first + k)
              .filter((index) => index > first + 5 && rows.get(index)?.row.group !== rows.get(index - 1)?.row.group)
              .map((index) => (
                <span
                  key={index}
                  className="absolute left-0 w-28 truncate text-[12.5px] leading-4 text-second"
                  style={{ top: HEAD + index * height }}
                >
                  {rows.get(index)?.row.group}
                </span>
              ))}
          {named &&
            Array.from({ length: Math.min(shown, count - first) }, (_, k) => first + k).map((index) => {
              const found = rows.get(index);
              const before = rows.get(index - 1);
              if (!found) return null;
              return (
                <div
                  key={found.row.name}
                  role="row"
                  aria-rowindex={index + 1}
                  aria-selected={index === at}
                  className={`absolute inset-x-0 grid items-center ${columns}`}
                  style={{ top: HEAD + index * height, height }}
                >
                  <span role="gridcell" className="truncate text-[12.5px] text-second">
                    {filter.group && index > first && before?.row.group !== found.row.group && found.row.group}
                  </span>
                  <span
                    role="rowheader"
                    className={look(
                      "pointer-events-auto flex min-w-0 items-center gap-1.5",
                      index === at ? "is-selected" : "",
                    )}
                  >
                    <StateMark state={found.row.state} size={height > 20 ? 13 : 10} />
                    <Link
                      to={kept(`/devices/${found.row.name}`)}
                      className={`truncate hover:underline ${height > 20 ? "" : "text-[12px] leading-4"}`}
                    >
                      {found.row.title}
                    </Link>
                  </span>
                  <span role="gridcell">
                    <span className="sr-only">
                      {STATE_WORDS[found.row.state]}; {found.words}
                    </span>
                  </span>
                  <span role="gridcell" className="text-right text-[12.5px] tabular-nums">
                    {figured(found.of.figure, found.row.figure)}
                  </span>
                </div>
              );
            })}
        </div>
      </div>
      {known && count > 0 && <Legend />}
    </>
  );
}

/** What the strokes mean. */
function Legend() {
  const marks: [string, React.ReactNode][] = [
    ["came", <line key="a" x1="6" x2="6" y1="2" y2="13" stroke="var(--edge)" strokeWidth="1.4" />],
    [
      "refused",
      <line key="b" x1="6" x2="6" y1="2" y2="13" stroke="var(--ink)" strokeWidth="1.8" strokeDasharray="2 2" />,
    ],
    [
      "more than twice what was promised",
      <line key="c" x1="6" x2="6" y1="2" y2="13" stroke="var(--ink)" strokeWidth="3" />,
    ],
    [
      "leans: its clock, or the way, is late",
      <line key="d" x1="9" x2="3" y1="2" y2="13" stroke="var(--edge)" strokeWidth="1.4" />,
    ],
    ["gap", <line key="e" x1="1" x2="13" y1="12" y2="12" stroke="var(--ink)" strokeWidth="2" />],
    [
      "Oculum did not listen",
      <path key="f" d="M0 8 8 0M0 14 14 0M6 14 14 6" stroke="var(--edge)" strokeWidth="1" fill="none" />,
    ],
  ];
  return (
    <p className="mt-1 flex flex-wrap gap-x-4 text-[12.5px] text-second">
      {marks.map(([word, mark]) => (
        <span key={word} className="flex items-center gap-1">
          <svg width="14" height="15" aria-hidden>
            {mark}
          </svg>
          {word}
        </span>
      ))}
    </p>
  );
}
