import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { ofSites, ofTypes } from "../../api/queries";
import { count, useAddress, word } from "../../parts/address";
import { At, Empty, Heading, shown, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Pages } from "../../parts/pages";
import { titled, unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { ofCourses } from "./queries";
import { bandOf, ranked, type Course } from "./ranking";

const PARTS = 96;
const PAGE = 48;
const WIDE = 200;
const TALL = 64;

/** A device's course before the middle eight tenths of all; both on the one scale of the screen. */
function Small({
  course,
  band,
  scale: [bottom, top],
  words,
}: {
  course: Course;
  band: ReturnType<typeof bandOf>;
  scale: [number, number];
  words: string;
}) {
  const x = (k: number) => (k / (PARTS - 1)) * WIDE;
  const y = (v: number) => TALL - 2 - ((v - bottom) / (top - bottom || 1)) * (TALL - 4);
  const known = band.flatMap((b, k) => (Number.isNaN(b.middle) ? [] : [{ ...b, k }]));
  const area = [
    ...known.map((b) => `${x(b.k)},${y(b.high)}`),
    ...[...known].reverse().map((b) => `${x(b.k)},${y(b.low)}`),
  ].join(" ");
  const runs: string[][] = [[]];
  course.values.forEach((v, k) => {
    if (v !== null) runs[runs.length - 1]?.push(`${x(k)},${y(v)}`);
    else if (runs[runs.length - 1]?.length) runs.push([]);
  });
  return (
    <svg
      viewBox={`0 0 ${WIDE} ${TALL}`}
      preserveAspectRatio="none"
      className="block h-16 w-full"
      role="img"
      aria-label={words}
    >
      <polygon points={area} fill="var(--quiet)" />
      {runs.map((run, i) => (
        <polyline
          key={i}
          points={run.join(" ")}
          fill="none"
          stroke="var(--ink)"
          strokeWidth="1.4"
          vectorEffect="non-scaling-stroke"
        />
      ))}
    </svg>
  );
}

/** One quantity of all devices of a type, each before the others: those farthest from the middle first. */
const ADDRESS = { type: word, field: word, site: word, offset: count };

export default function Compare() {
  const lookback = useLookback();
  const kept = useKept();
  const [asked, put] = useAddress(ADDRESS, { ends: "offset" });
  const types = useQuery(ofTypes());
  const sites = useQuery(ofSites(lookback));
  const able = (types.data?.results ?? []).filter(
    (t) => t.key !== "site" && (t.fields ?? []).some((f) => f.kind === "number"),
  );
  const type = able.find((t) => t.key === asked.type) ?? able[0];
  const fields = (type?.fields ?? []).filter((f) => f.kind === "number" || f.kind === "integer");
  const field = fields.find((f) => f.name === asked.field) ?? fields[0];
  const { site, offset } = asked;
  const found = useQuery(ofCourses(lookback, type?.key ?? "", field?.name ?? "", site, PARTS));
  const told = found.data;
  const { rows, band, scale } = useMemo(() => {
    const step = (told?.every_s ?? 1) * 1000;
    const courses: Course[] = (told?.series ?? []).map((one) => {
      const values = Array<number | null>(PARTS).fill(null);
      one.at.forEach((at, i) => {
        values[Math.round((new Date(at).getTime() - (told?.start ?? 0)) / step)] = one.value[i] ?? null;
      });
      return { device: one.device, values: values.slice(0, PARTS) };
    });
    const all = courses.flatMap((c) => c.values.filter((v): v is number => v !== null));
    const ends: [number, number] = [
      all.reduce((a, b) => Math.min(a, b), Infinity),
      all.reduce((a, b) => Math.max(a, b), -Infinity),
    ];
    return { rows: ranked(courses, PARTS), band: bandOf(courses, PARTS), scale: ends };
  }, [told]);
  const spec = { kind: "number", unit: field?.unit };
  const unit = unitOf(field?.unit);
  const amount = (value: number | null) => (value === null ? "no value" : `${shown(value, spec)} ${unit}`.trim());
  return (
    <div>
      <Heading
        title="Compare"
        about={`${lookback.live ? "last " : ""}${spanWord(lookback.spanS)}; farthest from the middle first`}
      >
        <Pick
          label="Device type"
          value={type?.key ?? ""}
          options={able.map((t) => [t.key, t.title])}
          onChange={(value) => put({ type: value })}
        />
        <Pick
          label="Field"
          value={field?.name ?? ""}
          options={fields.map((f) => [f.name, titled(f.name, f.title)])}
          onChange={(value) => put({ field: value })}
        />
        <Pick
          label="Site"
          value={site}
          options={[["", "every site"], ...(sites.data?.results ?? []).map((s): [string, string] => [s.name, s.title])]}
          onChange={(value) => put({ site: value })}
        />
      </Heading>
      <Trouble error={found.error ?? types.error} />
      {!told && !found.error && <Waiting what="the readings" />}
      {told && rows.length === 0 && (
        <Empty title="None of them has reported it in the lookback.">Widen it below, or choose another field.</Empty>
      )}
      {rows.length > 0 && (
        <p className="mb-3 text-second">
          {counted(rows.length, "device")}, all from {amount(scale[0])} to {amount(scale[1])}; grey is where the middle
          eight tenths of them are. From <At at={new Date(told?.start ?? 0).toISOString()} /> on.
        </p>
      )}
      <ul className="grid gap-x-5 gap-y-4 sm:grid-cols-2 lg:grid-cols-4" aria-label="Devices">
        {rows.slice(offset, offset + PAGE).map((row) => {
          const words =
            row.off === 0
              ? "at the middle"
              : `${amount(Math.abs(row.off))} ${row.off > 0 ? "above" : "below"} the middle`;
          return (
            <li key={row.device} className="min-w-0">
              <div className="flex items-baseline gap-2">
                <Link
                  className="truncate font-semibold hover:underline"
                  to={kept(`/devices/${row.device}`, { fields: field?.name ?? "" })}
                >
                  {row.device}
                </Link>
                <span className="ml-auto font-semibold whitespace-nowrap">{amount(row.last)}</span>
              </div>
              <Small course={row} band={band} scale={scale} words={`${row.device}: ${words}`} />
              <div className="text-[12.5px] text-second">{words}</div>
            </li>
          );
        })}
      </ul>
      {rows.length > PAGE && (
        <div className="mt-3 flex items-center justify-end gap-3">
          <Pages offset={offset} size={PAGE} count={rows.length} go={(next) => put({ offset: next })} />
        </div>
      )}
    </div>
  );
}
