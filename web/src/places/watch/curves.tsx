import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState, type ReactNode } from "react";
import type uPlot from "uplot";
import { type Schemas } from "../../api/client";
import { ofNotes, ofDevices, ofNamed } from "../../api/queries";
import { mark, oneOf, several, useAddress } from "../../parts/address";
import { Empty, Heading, shown, Trouble, Waiting } from "../../parts/basics";
import { Chart, type More } from "../../parts/chart";
import { Pick, Toggles } from "../../parts/filters";
import { useNow } from "../../parts/keys";
import { spanWord, useLookback } from "../../parts/lookback-state";
import { save } from "../../parts/save";
import { pngOf, spanned, svgOf } from "../../parts/take";
import { exact } from "../../parts/time";
import { MOST_LINES } from "../../parts/tones";
import { titled, unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { barsOf, limitsOf } from "../devices/context";
import { happened } from "../devices/notes";
import { ofAlarms } from "../devices/queries";
import { combined, steps, together } from "./courses";
import { ofAmong, ofDrawn, ofPairs, ofSpread, type Chosen } from "./queries";

const WAYS: [string, string][] = [
  ["time", "over time"],
  ["less", "difference"],
  ["over", "ratio"],
  ["often", "how often"],
  ["against", "one against the other"],
];
const EARLIER: [number, string][] = [
  [0, "no earlier span"],
  [86_400, "a day before"],
  [7 * 86_400, "a week before"],
  [28 * 86_400, "four weeks before"],
];
const PAIRS = 400;

const ADDRESS = {
  line: several<Chosen>(
    (text) => {
      const [device, field] = text.split(":");
      return device && field ? { device, field } : null;
    },
    (one) => `${one.device}:${one.field}`,
  ),
  as: oneOf(
    WAYS.map(([key]) => key),
    "time",
  ),
  earlier: oneOf(
    EARLIER.map(([s]) => s),
    0,
  ),
  among: mark(false),
  around: mark(true),
};

/** Each once, and no more than are told from each other. */
const drawable = (found: Chosen[]) =>
  found
    .filter((one, k) => found.findIndex((o) => o.device === one.device && o.field === one.field) === k)
    .slice(0, MOST_LINES);

export default function Curves() {
  const lookback = useLookback();
  const [asked, put] = useAddress(ADDRESS);
  const now = useNow(lookback.live ? 30_000 : 600_000);
  const [start, end] = lookback.bounds(now);
  const chosen = useMemo(() => drawable(asked.line), [asked.line]);
  const { as: way, earlier, among } = asked;
  const change = (next: Chosen[]) => put({ line: next });

  const devices = [...new Set(chosen.map((c) => c.device))];
  const fieldsOf = (device: string) => chosen.filter((c) => c.device === device).map((c) => c.field);
  const told = useQueries({ queries: devices.map((device) => ofDrawn(lookback, device, fieldsOf(device))) });
  const before = useQueries({
    queries: earlier ? devices.map((device) => ofDrawn(lookback, device, fieldsOf(device), earlier)) : [],
  });
  const known = useQueries({
    queries: devices.map(ofNamed),
  });
  const info = new Map(devices.map((device, k) => [device, known[k]?.data]));
  const first = chosen[0];
  const band = useQuery({
    ...ofAmong(lookback, first ? (info.get(first.device)?.type ?? "") : "", first?.field ?? ""),
    enabled: among && way === "time" && Boolean(first && info.get(first.device)),
  });

  const around = way === "time" && asked.around;
  const name = first?.device ?? "";
  const alarms = useQuery({ ...ofAlarms(lookback, name), enabled: around && Boolean(name) }).data;
  const notes = useQuery({ ...ofNotes(lookback, name), enabled: around && Boolean(name) }).data;
  const marks = useMemo(() => (around ? happened(notes) : []), [around, notes]);
  const several = devices.length > 1;
  const lines: (More & { key: Chosen })[] = chosen.flatMap((key) => {
    const k = devices.indexOf(key.device);
    const line = told[k]?.data?.fields.find((f) => f.field === key.field);
    if (!line) return [];
    const d = info.get(key.device);
    const title = titled(key.field, d?.values.find((v) => v.field === key.field)?.title);
    return [
      {
        key,
        label: several ? `${d?.title ?? key.device}: ${title}` : title,
        unit: unitOf(line.unit),
        line,
        gapS: Math.max((d?.cadence_s ?? 3600) * 2.5, line.low ? (lookback.spanS / 1200) * 3 : 0),
        stepped: line.kind === "flag" || line.kind === "code",
      },
    ];
  });
  const past: More[] = earlier
    ? lines.flatMap((l) => {
        const found = before[devices.indexOf(l.key.device)]?.data?.fields.find((f) => f.field === l.key.field);
        const words = EARLIER.find(([s]) => s === earlier)?.[1] ?? "";
        return found ? [{ ...l, label: lines.length > 1 ? `${l.label}, ${words}` : words, line: found }] : [];
      })
    : [];
  const [one, other] = lines;
  const mixed = useMemo(() => {
    if ((way !== "less" && way !== "over") || !one || !other) return null;
    const unit = way === "less" ? one.unit : one.unit === other.unit ? "" : `${one.unit || "1"}/${other.unit || "1"}`;
    return {
      label: `${one.label} ${way === "less" ? "−" : "÷"} ${other.label}`,
      unit,
      line: combined(one.line, other.line, way, Math.max(one.gapS, other.gapS)),
      gapS: Math.max(one.gapS, other.gapS),
    };
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [way, one?.line, other?.line, one?.label, other?.label]);
  const drawn: More[] = mixed ? [mixed] : way === "time" ? [...lines, ...past].slice(0, MOST_LINES) : [];
  const [head, ...more] = drawn;
  const span = `${lookback.live ? "last " : ""}${spanWord(lookback.spanS)}`;
  const trouble = told.find((t) => t.error)?.error ?? known.find((t) => t.error)?.error;
  return (
    <div>
      <Heading title="Curves" about={`${span}; drag over the curves to look closer`}>
        <Toggles label="How they are drawn" value={way} options={WAYS} onChange={(value) => put({ as: value })} />
      </Heading>
      <Trouble error={trouble ?? band.error} />
      <ul className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1" aria-label="Chosen">
        {chosen.map((key, k) => (
          <li key={`${key.device}:${key.field}`} className="flex items-center gap-1.5">
            <span>
              <b>{info.get(key.device)?.title ?? key.device}</b>{" "}
              {titled(key.field, info.get(key.device)?.values.find((v) => v.field === key.field)?.title)}
            </span>
            {k > 0 && (
              <button
                type="button"
                className="link"
                title="Draw it first: differences and ratios begin with it"
                onClick={() => change([key, ...chosen.filter((_, i) => i !== k)])}
              >
                first
              </button>
            )}
            <button
              type="button"
              className="button small"
              aria-label={`Leave out ${key.device} ${key.field}`}
              onClick={() => change(chosen.filter((_, i) => i !== k))}
            >
              ×
            </button>
          </li>
        ))}
        {chosen.length < MOST_LINES && <Another add={(next) => change([...chosen, next])} begin={chosen.at(-1)} />}
      </ul>
      {chosen.length === 0 && (
        <Empty title="Nothing is chosen yet.">
          Choose a device and one of its fields above; up to {MOST_LINES} curves are drawn together.
        </Empty>
      )}
      {way === "time" && chosen.length > 0 && (
        <div className="mb-2 flex flex-wrap items-center gap-4">
          <Pick
            label="Earlier span"
            value={earlier}
            options={EARLIER}
            onChange={(value) => put({ earlier: Number(value) })}
          />
          <label className="flex min-h-8 items-center gap-2">
            <input type="checkbox" checked={among} onChange={(e) => put({ among: e.target.checked })} />
            all devices of its kind behind the first
          </label>
          <label className="flex min-h-8 items-center gap-2">
            <input type="checkbox" checked={around} onChange={(e) => put({ around: e.target.checked })} />
            limits, alarms and notes of the first
          </label>
          {among && band.data && (
            <span className="text-second">
              grey: the middle eight tenths of {counted(band.data.devices, "device")}
              {band.data.of > band.data.devices ? ` of ${band.data.of}` : ""}; dotted: their middle
            </span>
          )}
        </div>
      )}
      {way !== "time" && way !== "often" && lines.length < 2 && chosen.length > 0 && (
        <Empty title="Two curves are needed for this.">Choose another one above.</Empty>
      )}
      {way === "less" && one && other && one.unit !== other.unit && (
        <p className="mb-2 border-l-3 border-ink bg-raised px-3 py-1">
          <b>Their units differ:</b> {one.unit || "no unit"} less {other.unit || "no unit"} is a number without a
          meaning.
        </p>
      )}
      {head && (
        <Drawn
          lines={drawn}
          title={mixed?.label ?? lines.map((l) => l.label).join(", ")}
          span={[start, end]}
          chosen={chosen}
        >
          {(took) => (
            <Chart
              label={head.label}
              unit={head.unit}
              line={head.line}
              gapS={head.gapS}
              stepped={head.stepped}
              more={more}
              from={start.getTime() / 1000}
              to={end.getTime() / 1000}
              height={360}
              took={took}
              limits={around && first ? limitsOf(info.get(name)?.limits ?? [], first.field) : []}
              alarms={
                around && first ? barsOf(alarms?.results ?? [], end).filter((bar) => bar.field === first.field) : []
              }
              notes={marks}
              among={
                among && way === "time" && band.data
                  ? {
                      t: band.data.at.map((at) => Date.parse(at) / 1000 + (band.data?.every_s ?? 0) / 2),
                      low: band.data.low,
                      middle: band.data.middle,
                      high: band.data.high,
                    }
                  : undefined
              }
              onSpan={(a, b) => lookback.set({ spanS: b - a, to: new Date(b * 1000) })}
            />
          )}
        </Drawn>
      )}
      {told.some((t) => t.isPending && chosen.length > 0) && <Waiting what="the curves" />}
      {way === "often" && (
        <div className="grid gap-6 md:grid-cols-2">
          {lines.map((l) => (
            <Often key={`${l.key.device}:${l.key.field}`} of={l.key} label={l.label} />
          ))}
        </div>
      )}
      {way === "against" && one && other && <Against one={one} other={other} />}
    </div>
  );
}

/** A further curve: a device by name, and one of its fields. */
function Another({ add, begin }: { add: (next: Chosen) => void; begin?: Chosen }) {
  const [device, setDevice] = useState("");
  const wanted = device || begin?.device || "";
  const found = useQuery({ ...ofDevices({ q: device || undefined, limit: 12 }), placeholderData: keepPreviousData });
  const results: Schemas["DeviceRowOut"][] = found.data?.results ?? [];
  const exactly = results.find((d) => d.name === wanted || d.title === wanted);
  const detail = useQuery({
    ...ofNamed(exactly?.name ?? wanted),
    enabled: Boolean(exactly) || (!device && Boolean(wanted)),
  });
  const fields = (detail.data?.values ?? []).filter((v) => ["number", "integer", "flag", "code"].includes(v.kind));
  return (
    <li className="flex items-center gap-1.5">
      <input
        className="input !w-52"
        aria-label="Device of a further curve"
        placeholder={begin ? `${begin.device}, or another` : "device"}
        list="devices-to-draw"
        value={device}
        onChange={(e) => setDevice(e.target.value)}
      />
      <datalist id="devices-to-draw">
        {results.map((d) => (
          <option key={d.name} value={d.name}>
            {d.title}
          </option>
        ))}
      </datalist>
      <Pick
        label="Field of a further curve"
        value=""
        options={[
          ["", fields.length ? "add a field" : "no such device yet"],
          ...fields.map((f): [string, string] => [f.field, titled(f.field, f.title)]),
        ]}
        onChange={(field) => field && detail.data && add({ device: detail.data.name, field })}
      />
    </li>
  );
}

/** The chart with what can be taken away from it. */
function Drawn({
  lines,
  title,
  span: [start, end],
  chosen,
  children,
}: {
  lines: More[];
  title: string;
  span: [Date, Date];
  chosen: Chosen[];
  children: (took: (plot: uPlot | null) => void) => ReactNode;
}) {
  const plot = useRef<uPlot | null>(null);
  const [rows, setRows] = useState(false);
  const [copied, setCopied] = useState(false);
  const about = spanned(start, end);
  const file =
    title
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "-")
      .slice(0, 60) || "curves";
  const query = new URLSearchParams({ from: start.toISOString(), to: end.toISOString(), as: "csv" });
  for (const device of new Set(chosen.map((c) => c.device))) query.append("device", device);
  for (const field of new Set(chosen.map((c) => c.field))) query.append("field", field);
  return (
    <section>
      {children((made) => {
        plot.current = made;
      })}
      <p className="mt-2 flex flex-wrap items-center gap-2">
        <button
          type="button"
          className="button small"
          onClick={() => {
            if (plot.current) void pngOf(plot.current, title, about).then((blob) => blob && save(`${file}.png`, blob));
          }}
        >
          Picture (PNG)
        </button>
        <button
          type="button"
          className="button small"
          onClick={() => {
            const text = svgOf(lines, start.getTime() / 1000, end.getTime() / 1000, title, about);
            save(`${file}.svg`, new Blob([text], { type: "image/svg+xml" }));
          }}
        >
          Drawing (SVG)
        </button>
        <a className="button small" href={`/api/v1/history?${query.toString()}`} download="readings.csv">
          Readings (CSV)
        </a>
        <button
          type="button"
          className="button small"
          onClick={() => {
            const link = new URL(location.href);
            link.searchParams.set("span", String(Math.round((end.getTime() - start.getTime()) / 1000)));
            link.searchParams.set("to", end.toISOString());
            void navigator.clipboard.writeText(link.toString()).then(() => setCopied(true));
          }}
        >
          {copied ? "Copied: it shows the same" : "Copy a link to this"}
        </button>
        <button type="button" className="button small" aria-pressed={rows} onClick={() => setRows(!rows)}>
          As a table
        </button>
      </p>
      {rows && <Rows lines={lines} start={start} end={end} />}
    </section>
  );
}

const ROWS = 24;

/** Means of equal parts, for whoever does not see the curves. */
function Rows({ lines, start, end }: { lines: More[]; start: Date; end: Date }) {
  const width = (end.getTime() - start.getTime()) / 1000 / ROWS;
  const from = start.getTime() / 1000;
  const means = lines.map((l) => {
    const sums = Array.from({ length: ROWS }, () => [0, 0] as [number, number]);
    l.line.t.forEach((t, i) => {
      const part = sums[Math.floor((t - from) / width)];
      const v = l.line.v[i];
      if (part && v !== null && v !== undefined) {
        part[0] += v;
        part[1] += 1;
      }
    });
    return sums.map(([sum, count]) => (count ? sum / count : null));
  });
  return (
    <div className="mt-3 overflow-x-auto">
      <table className="w-full text-left">
        <caption className="mb-1 text-left text-second">Means of {ROWS} equal parts, by when each begins</caption>
        <thead>
          <tr>
            <th scope="col">from</th>
            {lines.map((l) => (
              <th key={l.label} scope="col" className="text-right">
                {l.label} <span className="unit">{l.unit}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {Array.from({ length: ROWS }, (_, k) => (
            <tr key={k} className="border-t border-line">
              <th scope="row" className="font-normal">
                {exact(new Date((from + k * width) * 1000))}
              </th>
              {means.map((m, i) => (
                <td key={i} className="text-right">
                  {m[k] === null || m[k] === undefined ? "none" : Number(m[k].toPrecision(5))}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const [W, H, L, B, T] = [460, 240, 52, 36, 12];

/** How often each value came. */
function Often({ of, label }: { of: Chosen; label: string }) {
  const lookback = useLookback();
  const found = useQuery(ofSpread(lookback, of.device, of.field));
  const told = found.data;
  if (!told) return found.error ? <Trouble error={found.error} /> : <Waiting what="the readings" />;
  const unit = unitOf(told.unit);
  if (!told.values) return <Empty title={`${label}: nothing in the lookback.`}>Widen it below.</Empty>;
  const [low, high] = [told.edges[0] as number, told.edges.at(-1) as number];
  const most = Math.max(...told.counts);
  const x = (v: number) => L + ((v - low) / (high - low)) * (W - L - 10);
  const y = (n: number) => H - B - (n / most) * (H - B - T);
  const say = (v: number | undefined) => `${shown(v ?? null, { kind: "number", unit: told.unit })} ${unit}`.trim();
  return (
    <figure>
      <figcaption>
        <b>{label}</b> <span className="unit">{unit}</span>{" "}
        <span className="text-second">
          · {counted(told.values, "reading")}; half of them up to {say(told.deciles[5])}, eight tenths from{" "}
          {say(told.deciles[1])} to {say(told.deciles[9])}
        </span>
      </figcaption>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="mt-2 w-full"
        role="img"
        aria-label={`${label}: how often each value came`}
      >
        {steps(0, most, 4).map((n) => (
          <g key={n}>
            <path d={`M${L} ${y(n)}H${W - 10}`} stroke="var(--line)" />
            <text x={L - 6} y={y(n) + 4} textAnchor="end" fontSize="11.5" fill="var(--second)">
              {n}
            </text>
          </g>
        ))}
        {told.counts.map((n, k) => (
          <rect
            key={k}
            x={x(told.edges[k] as number) + 0.5}
            width={Math.max(x(told.edges[k + 1] as number) - x(told.edges[k] as number) - 1, 1)}
            y={y(n)}
            height={H - B - y(n)}
            fill="var(--third)"
          >
            <title>{`${say(told.edges[k])} to ${say(told.edges[k + 1])}: ${counted(n, "reading")}`}</title>
          </rect>
        ))}
        <path d={`M${x(told.deciles[5] as number)} ${T}V${H - B}`} stroke="var(--ink)" strokeDasharray="5 4" />
        {steps(low, high, 6).map((v) => (
          <text key={v} x={x(v)} y={H - B + 16} textAnchor="middle" fontSize="11.5" fill="var(--second)">
            {v}
          </text>
        ))}
        <text x={W - 10} y={H - 4} textAnchor="end" fontSize="11.5" fill="var(--second)">
          {unit || "value"}; upwards: readings; dashed: the middle
        </text>
      </svg>
    </figure>
  );
}

/** One quantity against the other: means of equal parts, the older the paler. */
function Against({ one, other }: { one: More & { key: Chosen }; other: More & { key: Chosen } }) {
  const lookback = useLookback();
  const found = useQuery(ofPairs(lookback, one.key, other.key, PAIRS));
  const pairs = found.data;
  if (!pairs) return found.error ? <Trouble error={found.error} /> : <Waiting what="the readings" />;
  if (pairs.length < 2)
    return <Empty title="They have no readings in the same parts of the lookback.">Widen it below.</Empty>;
  const ends = (of: (p: { x: number; y: number }) => number): [number, number] => {
    const all = pairs.map(of);
    const [low, high] = [Math.min(...all), Math.max(...all)];
    const pad = (high - low || Math.abs(high) || 1) * 0.05;
    return [low - pad, high + pad];
  };
  const [xs, ys] = [ends((p) => p.x), ends((p) => p.y)];
  const [wide, tall] = [760, 426];
  const x = (v: number) => 64 + ((v - xs[0]) / (xs[1] - xs[0])) * (wide - 84);
  const y = (v: number) => tall - 44 - ((v - ys[0]) / (ys[1] - ys[0])) * (tall - 66);
  const close = together(pairs);
  const per = lookback.spanS / PAIRS;
  return (
    <figure className="max-w-[860px]">
      <figcaption className="text-second">
        {counted(pairs.length, "pair")} of means over {Math.round(per / 60) || 1} min, the older the paler;{" "}
        {close === null
          ? "one of them does not change"
          : `correlation ${close.toFixed(2)} (1: they rise together, -1: one falls as the other rises, 0: neither)`}
      </figcaption>
      <svg
        viewBox={`0 0 ${wide} ${tall}`}
        className="w-full"
        role="img"
        aria-label={`${other.label} against ${one.label}`}
      >
        {steps(...ys, 6).map((v) => (
          <g key={v}>
            <path d={`M64 ${y(v)}H${wide - 20}`} stroke="var(--line)" />
            <text x={58} y={y(v) + 4} textAnchor="end" fontSize="12" fill="var(--second)">
              {v}
            </text>
          </g>
        ))}
        {steps(...xs, 8).map((v) => (
          <g key={v}>
            <path d={`M${x(v)} 22V${tall - 44}`} stroke="var(--line)" />
            <text x={x(v)} y={tall - 28} textAnchor="middle" fontSize="12" fill="var(--second)">
              {v}
            </text>
          </g>
        ))}
        {pairs.map((p, k) => (
          <circle
            key={p.at}
            cx={x(p.x)}
            cy={y(p.y)}
            r="3"
            fill="none"
            stroke="var(--ink)"
            strokeOpacity={0.25 + (0.75 * k) / pairs.length}
          >
            <title>
              {[exact(new Date(p.at)), `${p.x.toPrecision(5)} ${one.unit}`, `${p.y.toPrecision(5)} ${other.unit}`].join(
                ", ",
              )}
            </title>
          </circle>
        ))}
        <text x={wide - 20} y={tall - 8} textAnchor="end" fontSize="12.5" fill="var(--ink)">
          {one.label} {one.unit}
        </text>
        <text x={64} y={13} fontSize="12.5" fill="var(--ink)">
          {other.label} {other.unit}
        </text>
      </svg>
    </figure>
  );
}
