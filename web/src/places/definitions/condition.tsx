import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, Navigate, useParams } from "react-router";
import { api, got } from "../../api/client";
import { ofTypes } from "../../api/queries";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { Chart, type AlarmSpan } from "../../parts/chart";
import { Editor, fixed, Problems } from "../../parts/editor";
import { useMay } from "../../parts/me";
import { useNow } from "../../parts/keys";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { lasting } from "../../parts/time";
import { LineForm } from "./line-form";
import { useDraft, useWords } from "./draft";
import { DefinitionHead } from "./head";
import { Overtaken } from "./overtaken";
import { Figure, TrialRun, useTrial } from "./trial";
import { titled, unitOf } from "../../parts/units";
import { look } from "../../parts/look";

export default function ConditionScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const lookback = useLookback();
  const now = useNow(10_000);
  const types = useQuery(ofTypes());
  const type = draft.check.data?.type ?? draft.definition.data?.type ?? "";
  const own = types.data?.results.find((t) => t.key === type);
  const words = useWords(
    (own?.fields ?? []).map((f) => f.name),
    (own?.setpoints ?? []).map((s) => s.name),
    (types.data?.results ?? []).map((t) => t.key),
  );
  const devices = useQuery({
    queryKey: ["devices", "of", type],
    enabled: Boolean(type),
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/devices", { signal, params: { query: { type, limit: 200, order: "name" } } })),
  });
  const [days, setDays] = useState(7);
  const [cursor, setCursor] = useState<number | null>(null);
  const engineer = useMay("engineer");
  const [asked, setAsked] = useState<string | null>(null);
  const trial = useTrial(id, draft.text, { messages: 5000, days });
  const found = trial.run.data?.condition;
  const name = asked ?? found?.by_device[0]?.device ?? devices.data?.results[0]?.name ?? null;
  const limit = draft.check.data?.limits[0];
  const device = useQuery({
    queryKey: ["device", name, ...lookback.key],
    enabled: Boolean(name),
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}", { signal, params: { path: { name: name ?? "" }, query: lookback.query() } }),
      ),
    placeholderData: keepPreviousData,
  });
  const series = useQuery({
    queryKey: ["series", name, limit?.field, ...lookback.key],
    enabled: Boolean(name && limit),
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}/series", {
          signal,
          params: { path: { name: name ?? "" }, query: { field: [limit?.field ?? ""], ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const kind = draft.definition.data?.kind ?? "condition";
  if (kind !== "condition") return <Navigate to={kept(`/${kind}s/${id}`)} replace />;
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the condition" />;
  const [start, end] = lookback.bounds(now);
  const line = series.data?.fields.find((f) => f.field === limit?.field);
  const lines = (draft.check.data?.limits ?? [])
    .filter((l) => l.field === limit?.field)
    .map((l) => {
      const setpoint = device.data?.setpoints.find((s) => s.name === l.setpoint);
      const value = l.setpoint ? (setpoint?.value ?? null) : l.number;
      return value === null || value === undefined
        ? null
        : {
            value,
            word: l.setpoint
              ? `${l.setpoint} ${value} ${unitOf(l.unit)} · ${setpoint?.source_title}`
              : `${l.sign} ${value} ${unitOf(l.unit)}`,
          };
    })
    .filter((l) => l !== null);
  const spans: AlarmSpan[] = (found?.spans ?? [])
    .filter((s) => s.device === name)
    .map((s) => ({
      from: new Date(s.raised_at).getTime() / 1000,
      to: s.cleared_at ? new Date(s.cleared_at).getTime() / 1000 : end.getTime() / 1000,
      priority: draft.check.data?.priority ?? "low",
      open: !s.cleared_at,
    }));
  const units = [...new Set((draft.check.data?.limits ?? []).map((l) => unitOf(l.unit)))];
  const unit = units.length === 1 ? units[0] : "";
  const most = Math.max(1, ...(found?.by_day ?? []).map((d) => d.count));
  return (
    <>
      <DefinitionHead draft={draft} about={<>{own?.title ?? type}</>} />
      <Overtaken draft={draft} />
      <div className="grid gap-x-8 gap-y-4 xl:grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)]">
        <section className="min-w-0" aria-label="Text">
          <h2 className="mb-1">
            When an alarm is raised and cleared{" "}
            <span>
              · text; <Key>Ctrl Space</Key> completes
            </span>
          </h2>
          <Editor
            label="Condition text"
            value={draft.text}
            onChange={draft.setText}
            problems={draft.problems}
            words={words}
            onLine={setCursor}
          />
          {engineer && <LineForm text={draft.text} line={cursor} words={words} setText={draft.setText} />}
          <Problems problems={draft.problems} onFix={(p) => draft.setText(fixed(draft.text, p))} />
          <p className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-1 text-[13px] text-second">
            {draft.check.data?.priority && (
              <span className="flex items-center gap-1.5">
                <PriorityMark priority={draft.check.data.priority} /> {draft.check.data.priority} priority
              </span>
            )}
            <span>
              Fields and setpoints are those of{" "}
              <Link className="link" to={kept(`/devices/types/${type}`)}>
                {own?.title ?? type}
              </Link>
              ; a device can have a setpoint of its own on its page.
            </span>
          </p>
        </section>
        <section className="min-w-0" aria-label="Chart">
          <div className="mb-1 flex items-center gap-2">
            <h2>Drawn on</h2>
            <select
              className="input !w-auto"
              aria-label="Device drawn"
              value={name ?? ""}
              onChange={(e) => setAsked(e.target.value)}
            >
              {devices.data?.results.map((d) => (
                <option key={d.name} value={d.name}>
                  {d.title}
                </option>
              ))}
            </select>
            {name && (
              <Link className="link" to={kept(`/devices/${name}`)}>
                open
              </Link>
            )}
          </div>
          {line && limit ? (
            <Chart
              label={titled(limit.field)}
              unit={unitOf(line.unit)}
              line={line}
              from={start.getTime() / 1000}
              to={end.getTime() / 1000}
              gapS={Math.max((device.data?.cadence_s ?? 3600) * 2.5, line.low ? (lookback.spanS / 600) * 3 : 0)}
              height={240}
              limits={lines}
              alarms={spans}
              onSpan={(a, b) => lookback.set({ spanS: b - a, to: new Date(b * 1000) })}
            />
          ) : (
            <Empty title="Nothing to draw yet.">
              A comparison of a field with a limit is drawn here, with the alarms of the trial below it.
            </Empty>
          )}
        </section>
      </div>
      <section className="mt-5 border-t border-line pt-3" aria-label="Trial">
        <div className="flex flex-wrap items-start gap-x-10 gap-y-3">
          <TrialRun
            draft={draft}
            trial={trial}
            about="how often the draft would have been raised"
            label="How far back"
            value={days}
            options={[
              [1, "the last day"],
              [7, "the last 7 days"],
              [30, "the last 30 days"],
            ]}
            onChange={setDays}
            done={`${found?.messages.toLocaleString("en")} messages of ${found?.devices} devices`}
          />
          {found && (
            <>
              <Figure
                n={found.raised}
                word={`raised in ${days === 1 ? "a day" : `${days} days`}`}
                strong={found.raised > 0}
              />
              <Figure n={found.devices_raised} word={`of ${found.devices} devices`} />
              <Figure n={found.still_open} word="would be open now" strong={found.still_open > 0} />
              {found.by_day.length > 0 && (
                <figure>
                  <div
                    className="flex h-10 items-end gap-1"
                    role="img"
                    aria-label={found.by_day.map((d) => `${d.day}: ${d.count}`).join(", ")}
                  >
                    {found.by_day.map((d) => (
                      <div
                        key={d.day}
                        className="w-5 bg-[var(--edge)]"
                        style={{ height: `${(d.count / most) * 100}%` }}
                        title={`${d.day}: ${d.count}`}
                      />
                    ))}
                  </div>
                  <figcaption className="text-[12.5px] text-second">
                    by day, {found.by_day[0]?.day.slice(5)} to {found.by_day[found.by_day.length - 1]?.day.slice(5)}; at
                    most {most}
                  </figcaption>
                </figure>
              )}
            </>
          )}
        </div>
        {found && found.spans.length > 0 && (
          <ul className="rows mt-3 max-h-56 max-w-3xl overflow-y-auto" aria-label="Alarms of the trial">
            {found.spans.slice(0, 60).map((s, i) => (
              <li key={i}>
                <button
                  type="button"
                  className={look(
                    "row-line !min-h-7 grid w-full grid-cols-[120px_130px_1fr_150px] items-center gap-2 pr-2",
                    `text-left ${s.device === name ? "is-selected" : ""}`,
                  )}
                  onClick={() => setAsked(s.device)}
                >
                  <span className="pl-2.5 font-semibold">{s.device}</span>
                  <span>
                    <At at={s.raised_at} />
                  </span>
                  <span className="text-second">
                    {s.cleared_at
                      ? `for ${lasting((new Date(s.cleared_at).getTime() - new Date(s.raised_at).getTime()) / 1000)}`
                      : "still open"}
                  </span>
                  <span className="text-right">
                    {s.value === null ? "" : `${Number(s.value.toPrecision(4))} against ${s.limit} ${unit}`}
                  </span>
                </button>
              </li>
            ))}
          </ul>
        )}
      </section>
    </>
  );
}
