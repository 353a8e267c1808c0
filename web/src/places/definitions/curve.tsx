import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { Empty, Trouble } from "../../parts/basics";
import { type AlarmSpan, Chart, type Line, type Place } from "../../parts/chart";
import { Pick } from "../../parts/filters";
import { DelayHandle, fine, type Held, LineHandle } from "../../parts/handle";
import { useNow } from "../../parts/keys";
import { useKept, useLookback } from "../../parts/lookback-state";
import { lasting } from "../../parts/time";
import { titled, unitOf } from "../../parts/units";
import { ofSeries } from "../devices/queries";
import { useAsked } from "./asked";
import type { useDraft } from "./draft";
import { type Limit, withDeadband, withDelay, withLimit } from "./limit-text";

type Draft = ReturnType<typeof useDraft>;
type Trace = Schemas["TraceOut"];
type Curve = Schemas["TraceCurve"];
export type Subject = { name: string; title: string };

/** What the draft compares for one device, over what it is made of; limits, deadband and delay are moved on it. */
export function CurvePart({
  draft,
  subject,
  subjects,
  choose,
  sites,
  fields,
  engineer,
  supposed,
  suppose,
}: {
  draft: Draft;
  subject: string | null;
  subjects: Subject[];
  choose: (name: string) => void;
  sites: boolean;
  fields: { name: string; kind: string }[];
  engineer: boolean;
  supposed: Record<string, number>;
  suppose: (name: string, value: number) => void;
}) {
  const id = draft.definition.data?.id ?? 0;
  const kept = useKept();
  const lookback = useLookback();
  const now = useNow(60_000);
  const [start, end] = lookback.bounds(now);
  const sound = draft.ready && draft.sound && draft.upToDate;
  const traced = useAsked<Trace>(
    `/api/v1/definitions/${id}/trace`,
    { text: draft.settled, device: subject, start: start.toISOString(), end: end.toISOString(), supposed },
    sound && subject !== null,
  );
  const found = traced.data;
  const [which, setWhich] = useState(0);
  const curve = found?.curves[which] ?? found?.curves[0];
  const at = curve ? Math.max(found?.curves.indexOf(curve) ?? 0, 0) : 0;
  const moving = useMoving(draft);
  const limit = draft.check.data?.limits[at];
  const told = fields.find((f) => f.name === draft.check.data?.draws);
  const field = !sites && told && ["number", "integer", "code", "flag"].includes(told.kind) ? told.name : null;
  const series = useQuery({
    ...ofSeries(lookback, subject ?? "", field ? [field] : []),
    enabled: Boolean(subject && field) && !sites,
    refetchInterval: false,
    retry: false,
  });
  const raw = series.data?.fields.find((f) => f.field === field);
  const shownIn = curve ? scale(curve) : null;
  const line = useMemo(() => (curve && shownIn ? scaled(curve, shownIn.by) : NO_LINE), [curve, shownIn]);
  const bounds = useMemo(
    () =>
      curve && shownIn ? { t: curve.t, v: curve.limit.map((v) => (v === null ? null : v / shownIn.by)) } : undefined,
    [curve, shownIn],
  );
  const plain = curve !== undefined && curve.words === field;
  const alarms: AlarmSpan[] = (found?.alarms ?? []).map((a) => ({
    from: Date.parse(a.raised_at) / 1000,
    to: a.cleared_at ? Date.parse(a.cleared_at) / 1000 : end.getTime() / 1000,
    priority: a.priority,
    open: !a.cleared_at,
  }));
  const holds = useMemo(
    () =>
      (found?.holds ?? []).map((h) => ({
        from: Date.parse(String(h.from)) / 1000,
        to: Date.parse(String(h.to)) / 1000,
      })),
    [found],
  );
  const number = limit ? (moving.value("limit", at) ?? limitOf(limit, curve, supposed)) : null;
  const band = limit ? (moving.value("deadband", at) ?? limit.deadband) : 0;
  const held = limit ? (moving.value("delay", at) ?? limit.held_s) : 0;
  const over = limit && (limit.sign === ">" || limit.sign === ">=");
  const edge = number === null ? null : over ? number - band : number + band;
  const index = subjects.findIndex((s) => s.name === subject);
  const step = (by: number) => {
    const next = subjects[Math.min(Math.max(index + by, 0), subjects.length - 1)];
    if (next) choose(next.name);
  };
  const handles = (place: Place) => {
    if (!limit || number === null || !engineer) return null;
    const by = fine(place.low, place.high);
    const unit = unitOf(limit.unit);
    const lines: Held[] = [
      {
        label: "limit",
        value: number,
        words: `${number} ${unit}${limit.setpoint ? `, ${limit.setpoint}` : ""}`,
        step: by,
        lean: over ? "up" : "down",
        move: (value) =>
          limit.setpoint
            ? suppose(limit.setpoint, value)
            : moving.move("limit", at, value, (text, l) => withLimit(text, l, value)),
      },
    ];
    if (edge !== null && !OWN_CLEARING.test(draft.text))
      lines.push({
        label: "deadband",
        value: edge,
        words: band > 0 ? `clears at ${Number(edge.toPrecision(6))} ${unit}` : "deadband",
        step: by,
        right: true,
        lean: over ? "down" : "up",
        move: (value) => {
          const wide = Math.max(Number((over ? number - value : value - number).toPrecision(6)), 0);
          moving.move("deadband", at, wide, (text, l) => withDeadband(text, l, wide));
        },
      });
    return lines.map((one) => <LineHandle key={one.label} held={one} place={place} />);
  };
  return (
    <section className="desk-pane" aria-label="Chart">
      <div className="mb-1 flex flex-wrap items-center gap-x-2 gap-y-1">
        <h2>{sites ? "At" : "For"}</h2>
        <Pick
          label={sites ? "Site drawn" : "Device drawn"}
          value={subject ?? ""}
          options={subjects.map((s) => [s.name, s.title])}
          onChange={choose}
          className="!max-w-48"
        />
        <button type="button" className="button small" aria-label="the one before" onClick={() => step(-1)}>
          ‹
        </button>
        <button type="button" className="button small" aria-label="the next one" onClick={() => step(1)}>
          ›
        </button>
        <span className="text-[12.5px] text-second">
          {index >= 0 ? `${index + 1} of ${subjects.length}, worst first` : ""}
        </span>
        {(found?.curves.length ?? 0) > 1 && (
          <Pick
            label="What is drawn"
            value={at}
            options={(found?.curves ?? []).map((c, i) => [i, c.words])}
            onChange={(text) => setWhich(Number(text))}
          />
        )}
        {subject && !sites && (
          <Link className="link ml-auto" to={kept(`/devices/${subject}`)}>
            open the device
          </Link>
        )}
      </div>
      {traced.error && !(traced.error instanceof DOMException) ? <Trouble error={traced.error} /> : null}
      {curve && shownIn ? (
        <>
          <Chart
            label={plain ? titled(curve.words) : curve.words}
            unit={unitOf(shownIn.unit)}
            line={line}
            {...(raw && !plain ? { under: raw } : {})}
            apart={raw?.unit !== curve.unit}
            {...(number === null || varies(curve) ? { bounds: bounds! } : {})}
            from={start.getTime() / 1000}
            to={end.getTime() / 1000}
            gapS={Math.max(lookback.spanS / 12, 7200)}
            height={196}
            limits={
              number !== null && !engineer ? [{ value: number, word: `${number} ${unitOf(limit?.unit)}` }] : NO_LIMITS
            }
            reach={number === null ? NO_LIMITS : [number]}
            bands={edge !== null && number !== null && band > 0 ? [[number, edge]] : NO_BANDS}
            holds={holds}
            alarms={alarms}
            onSpan={(a, b) => lookback.set({ spanS: b - a, to: new Date(b * 1000) })}
            over={(place) => <>{handles(place)}</>}
            foot={(place) => (
              <div className="flex flex-wrap items-center justify-between gap-x-4 text-[11.5px] text-second">
                {limit && engineer ? (
                  <DelayHandle
                    seconds={held}
                    words={held > 0 ? `held ${lasting(held)}` : "no delay"}
                    step={lookback.spanS > 6 * 3600 ? 300 : 60}
                    place={place}
                    move={(seconds) => moving.move("delay", at, seconds, (text, l) => withDelay(text, l, seconds))}
                  />
                ) : (
                  <span />
                )}
                <span>
                  {raw &&
                    !plain &&
                    `faint: ${titled(field ?? "").toLowerCase()}${raw.unit !== curve.unit ? ", own scale" : ""} · `}
                  hatched: the rule holds · bars: raised
                </span>
              </div>
            )}
          />
        </>
      ) : (
        !traced.isFetching && (
          <Empty title={sound ? "Nothing is compared here." : "Nothing to draw yet."}>
            {sound
              ? found
                ? "The rule names no quantity with a limit; what it raised stands in the trial below."
                : "Choose a device."
              : "The quantity that the rule compares is drawn here, as soon as the text reads well."}
          </Empty>
        )
      )}
      {traced.isFetching && !found && <p className="text-second">Looking at its past …</p>}
    </section>
  );
}

const OWN_CLEARING = /^\s*clear when\b/m; // such a rule takes no deadband
const NO_LINE: Line = { t: [], v: [] };
const NO_LIMITS: never[] = [];
const NO_BANDS: [number, number][] = [];

/** A curve of seconds is drawn in minutes, hours or days. */
function scale(curve: Curve): { by: number; unit: string | null } {
  if (curve.unit !== "s") return { by: 1, unit: curve.unit };
  const most = Math.max(0, ...curve.v.map((v) => v ?? 0), ...curve.limit.map((v) => v ?? 0));
  return most > 3 * 86_400
    ? { by: 86_400, unit: "d" }
    : most > 7200
      ? { by: 3600, unit: "h" }
      : { by: 60, unit: "min" };
}

const scaled = (curve: Curve, by: number): Line => ({
  t: curve.t,
  v: by === 1 ? curve.v : curve.v.map((v) => (v === null ? null : v / by)),
});

const varies = (curve: Curve) => new Set(curve.limit.filter((v) => v !== null)).size > 1;

/** The limit as it is drawn: a number of the text, the value that is supposed, else the newest there was. */
function limitOf(limit: Limit, curve: Curve | undefined, supposed: Record<string, number>): number | null {
  if (limit.number !== null) return limit.number;
  if (limit.setpoint === null) return null;
  const last = curve?.limit.findLast((v) => v !== null) ?? null;
  return supposed[limit.setpoint] ?? last;
}

type What = "limit" | "deadband" | "delay";

/**
 * Moves what stands in the text. Places in the text are known as of its last check: while it is moved on, each move
 * begins from there; what somebody types meanwhile is not overwritten.
 */
function useMoving(draft: Draft) {
  const base = useRef<{ text: string; limits: Limit[] } | null>(null);
  const [moved, setMoved] = useState<{ what: What; at: number; value: number; text: string } | null>(null);
  const fresh = draft.upToDate && !draft.check.isPlaceholderData;
  useEffect(() => {
    if (fresh && draft.check.data) base.current = { text: draft.settled, limits: draft.check.data.limits };
  }, [fresh, draft.check.data, draft.settled]);
  return {
    /** What was moved, until the check has caught up. */
    value: (what: What, at: number) =>
      moved?.what === what && moved.at === at && moved.text === draft.text && !fresh ? moved.value : null,
    move: (what: What, at: number, value: number, write: (text: string, limit: Limit) => string) => {
      const from = base.current;
      const limit = from?.limits[at];
      if (!from || !limit) return;
      if (draft.text !== from.text && !(moved?.what === what && moved.text === draft.text)) return;
      const text = write(from.text, limit);
      setMoved({ what, at, value, text });
      draft.setText(text);
    },
  };
}
