import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { api, got, lines, type Schemas } from "../../api/client";
import { exactly, Trouble, unitOf } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import type { useDraft } from "./draft";
import { Figure } from "./trial";

type Result = Schemas["DecoderTrialOut"] & { seconds: number };
type Step = { done?: number; total?: number; result?: Result };

/** The draft over stored messages, with how far it is; stopping it ends the work on the server. */
export function useProgress(id: number) {
  const control = useRef<AbortController | null>(null);
  const [at, setAt] = useState<{ done: number; total: number } | null>(null);
  const run = useMutation({
    mutationFn: async (body: { text: string; messages: number; chosen?: boolean }) => {
      control.current = new AbortController();
      setAt({ done: 0, total: 0 });
      let result: Result | null = null;
      for await (const step of lines<Step>(`/api/v1/definitions/${id}/trial/progress`, body, control.current.signal)) {
        if (step.result) result = step.result;
        else setAt({ done: step.done ?? 0, total: step.total ?? 0 });
      }
      return result;
    },
    onSettled: () => setAt(null),
  });
  return { run, at, stop: () => control.current?.abort() };
}

export function Trial({
  id,
  draft,
  type,
  trial,
}: {
  id: number;
  draft: ReturnType<typeof useDraft>;
  type: string;
  trial: ReturnType<typeof useProgress>;
}) {
  const [count, setCount] = useState(5000);
  const kept = useKept();
  const first = draft.errors[0];
  const found = trial.run.data;
  const changed = found?.fields.filter((f) => f.differ) ?? [];
  const fresh = found?.fields.filter((f) => f.state !== "same") ?? [];
  return (
    <section className="mt-5 border-t border-line pt-3" aria-label="Trial">
      <div className="flex flex-wrap items-start gap-x-10 gap-y-3">
        <div>
          <h2 className="mb-1">
            Trial <span>· the draft over stored messages; changes nothing</span>
          </h2>
          <div className="flex items-center gap-2">
            <Pick
              label="How many messages"
              value={count}
              options={[500, 5000, 20000, 100000].map((n) => [n, `the last ${n.toLocaleString("en")}`])}
              onChange={(text) => setCount(Number(text))}
            />
            <button
              type="button"
              className="button"
              disabled={Boolean(first) || trial.run.isPending}
              onClick={() => trial.run.mutate({ text: draft.text, messages: count })}
            >
              {first ? `Waits for line ${first.line}` : trial.run.isPending ? "Running …" : "Run"}
            </button>
            {trial.at && (
              <>
                <progress max={trial.at.total || 1} value={trial.at.done} aria-label="messages tried" />
                <span>
                  {trial.at.done.toLocaleString("en")} of {trial.at.total.toLocaleString("en")}
                </span>
                <button type="button" className="link" onClick={trial.stop}>
                  stop
                </button>
              </>
            )}
          </div>
          {!(trial.run.error instanceof DOMException) && <Trouble error={trial.run.error} />}
          {found && (
            <p className="mt-1 text-[12.5px] text-second" role="status">
              {found.messages.toLocaleString("en")} messages
              {trial.run.variables?.chosen ? " of the chosen devices" : ""} in {found.seconds.toFixed(1)} s
            </p>
          )}
        </div>
        {found && (
          <>
            <Figure
              n={found.decoded}
              word={`decoded${found.decoded_before !== null && found.decoded !== found.decoded_before ? `, ${Math.abs(found.decoded - found.decoded_before).toLocaleString("en")} ${found.decoded > found.decoded_before ? "more" : "fewer"} than in force` : ""}`}
            />
            <Figure n={found.failed} word="fail" strong={found.failed > 0} />
            {found.partly > 0 && <Figure n={found.partly} word="decoded in part" />}
            {found.decoded_before !== null && (
              <Figure
                n={changed.reduce((a, f) => a + (f.differ ?? 0), 0)}
                word={
                  changed.length
                    ? `values differ, in ${changed.length} field${changed.length > 1 ? "s" : ""}`
                    : "values differ"
                }
              />
            )}
            {fresh.length > 0 && (
              <Figure n={fresh.length} word={fresh.map((f) => `${f.field} is ${f.state}`).join(", ")} />
            )}
          </>
        )}
        <Again type={type} live={Boolean(draft.definition.data?.live)} />
      </div>
      {found && changed.length > 0 && <Differences fields={changed} />}
      {found && found.reasons.length > 0 && (
        <ul className="rows mt-3 max-w-3xl" aria-label="Why messages fail">
          {found.reasons.map((r) => (
            <li key={`${r.code} ${r.message} ${r.line}`} className="row-line flex items-center gap-3">
              <b className="w-14 text-right">{r.count}</b>
              <span>
                {r.code}: {r.message}
              </span>
              <Link className="link ml-auto" to={kept(`/decoders/${id}`, { message: r.example })}>
                an example
              </Link>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

/** Field by field: how many values are others than before, and how far they lie from them. */
function Differences({ fields }: { fields: Schemas["TrialField"][] }) {
  return (
    <table className="mt-3 max-w-3xl" aria-label="Values that differ">
      <thead>
        <tr className="text-left text-[12.5px] text-second">
          <th className="pr-6 font-normal">field</th>
          <th className="pr-6 text-right font-normal">differ</th>
          <th className="pr-6 text-right font-normal">of</th>
          <th className="pr-6 text-right font-normal">half differ by</th>
          <th className="font-normal">new value less old one</th>
        </tr>
      </thead>
      <tbody>
        {fields.slice(0, 40).map((f) => (
          <tr key={f.field} className="border-t border-line">
            <td className="pr-6">{f.field}</td>
            <td className="pr-6 text-right">
              <b>{(f.differ ?? 0).toLocaleString("en")}</b>
            </td>
            <td className="pr-6 text-right">{(f.values + f.missing).toLocaleString("en")}</td>
            <td className="pr-6 text-right">
              {f.distribution ? (
                <>
                  {exactly(f.distribution.middle)} <span className="unit">{unitOf(f.unit)}</span>
                </>
              ) : (
                f.state
              )}
            </td>
            <td>{f.distribution && <Spread {...f.distribution} unit={f.unit} />}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Spread({ low, high, counts, unit }: Schemas["Distribution"] & { unit: string | null }) {
  const top = Math.max(...counts, 1);
  return (
    <span className="inline-flex items-end gap-2 text-[12px] text-second">
      {exactly(low)}
      <svg
        width={counts.length * 8}
        height={22}
        role="img"
        aria-label={`from ${exactly(low)} to ${exactly(high)} ${unitOf(unit)}`}
      >
        {counts.map((n, i) => (
          <rect
            key={i}
            x={i * 8}
            width={7}
            y={22 - Math.max((n / top) * 21, n ? 1.5 : 0)}
            height={22}
            fill="var(--ink)"
          />
        ))}
      </svg>
      {exactly(high)} {unitOf(unit)}
    </span>
  );
}

/** Stored messages run once more through the version in force: the refused ones, or all of a span. */
function Again({ type, live }: { type: string; live: boolean }) {
  const client = useQueryClient();
  const engineer = useMay("engineer");
  const [days, setDays] = useState(0);
  const again = useQuery({
    queryKey: ["again", type],
    enabled: Boolean(type),
    queryFn: () => got(api.GET("/api/v1/types/{key}/decode-again", { params: { path: { key: type } } })),
    refetchInterval: (q) => (["waiting", "running"].includes(q.state.data?.state ?? "") ? 500 : false),
  });
  const refused = useQuery({
    queryKey: ["arrivals", "waiting", type],
    enabled: Boolean(type),
    queryFn: async () =>
      (
        await Promise.all([
          got(api.GET("/api/v1/arrivals", { params: { query: { type, outcome: "no decoder", limit: 1 } } })),
          got(api.GET("/api/v1/arrivals", { params: { query: { type, outcome: "refused", limit: 1 } } })),
        ])
      ).some((p) => p.results.length > 0),
  });
  const changed = { onSuccess: () => client.invalidateQueries({ queryKey: ["again"] }) };
  const path = { path: { key: type } };
  const start = useMutation({
    mutationFn: () => {
      const end = new Date();
      const body = days
        ? { start: new Date(end.getTime() - days * 86_400_000).toISOString(), end: end.toISOString() }
        : {};
      return got(api.POST("/api/v1/types/{key}/decode-again", { params: path, body }));
    },
    ...changed,
  });
  const pause = useMutation({
    mutationFn: (state: "paused" | "waiting") =>
      got(api.PATCH("/api/v1/types/{key}/decode-again", { params: path, body: { state } })),
    ...changed,
  });
  const cancel = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/types/{key}/decode-again", { params: path })),
    ...changed,
  });
  const job = again.data;
  const busy = ["waiting", "running", "paused"].includes(job?.state ?? "");
  if (!live && !(job && job.id > 0)) return null;
  return (
    <div className="ml-auto">
      <h2 className="mb-1">
        Decode again <span>· stored messages through the version in force</span>
      </h2>
      {job && busy ? (
        <p className="flex items-center gap-2">
          <progress max={job.total || 1} value={job.done} aria-label="decoded again" />{" "}
          {(job.done ?? 0).toLocaleString("en")} of {(job.total ?? 0).toLocaleString("en")}
          <button
            type="button"
            className="link"
            onClick={() => pause.mutate(job.state === "paused" ? "waiting" : "paused")}
          >
            {job.state === "paused" ? "go on" : "pause"}
          </button>
          <button type="button" className="link" onClick={() => cancel.mutate()}>
            cancel
          </button>
        </p>
      ) : (
        <div className="flex items-center gap-2">
          {engineer && live && (
            <>
              <Pick
                label="Which messages to decode again"
                value={days}
                options={[
                  [0, "the refused ones"],
                  [1, "all of the last day"],
                  [7, "all of 7 days"],
                  [30, "all of 30 days"],
                ]}
                onChange={(text) => setDays(Number(text))}
              />
              <button
                type="button"
                className="button"
                disabled={start.isPending || (days === 0 && !refused.data)}
                onClick={() => start.mutate()}
              >
                {days === 0 ? (refused.data ? "Decode them again" : "None is refused") : "Decode them again"}
              </button>
            </>
          )}
          {job && job.id > 0 && (
            <span role="status">
              {(job.decoded ?? 0).toLocaleString("en")} of {(job.done ?? 0).toLocaleString("en")} decoded{" "}
              {job.state === "cancelled" ? "before it was cancelled" : ""}
            </span>
          )}
        </div>
      )}
      <Trouble error={start.error} />
    </div>
  );
}
