import { useState } from "react";
import { Link } from "react-router";
import { Trouble } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Again } from "./again";
import { Differences } from "./differences";
import type { useDraft } from "./draft";
import type { useProgress } from "./progress";
import { Figure } from "./trial";

/** "fail: 11 checksum, 3 too short" */
function why(reasons: { code: string; count: number }[]): string {
  const by = new Map<string, number>();
  for (const r of reasons) by.set(r.code, (by.get(r.code) ?? 0) + r.count);
  const parts = [...by].sort((a, b) => b[1] - a[1]).slice(0, 3);
  if (parts.length < 2) return parts[0] ? `fail: ${parts[0][0]}` : "fail";
  return `fail: ${parts.map(([code, n]) => `${n.toLocaleString("en")} ${code}`).join(", ")}`;
}

/** "fields are new: charging, depth; lost: mode" */
function changes(fields: { field: string; state: string }[]): string {
  const states = [...new Set(fields.map((f) => f.state))];
  const each = states.map((s) => `${s}: ${fields.flatMap((f) => (f.state === s ? [f.field] : [])).join(", ")}`);
  return `field${fields.length > 1 ? "s are" : " is"} ${each.join("; ")}`;
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
  const lookback = useLookback();
  const span = () => {
    const [start, end] = lookback.bounds(new Date());
    return { messages: 100_000, start: start.toISOString(), end: end.toISOString() };
  };
  const first = draft.errors[0];
  const found = trial.run.data;
  const changed = found?.fields.filter((f) => f.differ) ?? [];
  const fresh = found?.fields.filter((f) => f.state !== "same") ?? [];
  return (
    <section className="contents" aria-label="Trial">
      <div className="trial-bar">
        <div>
          <h2 className="mb-1">
            Trial{" "}
            <span role="status">
              {found
                ? `· ${found.messages.toLocaleString("en")} messages${trial.run.variables?.chosen ? " of the chosen devices" : ""} in ${found.seconds.toFixed(1)} s`
                : "· the draft over stored messages; changes nothing"}
            </span>
          </h2>
          <div className="flex items-center gap-2">
            <Pick
              label="How many messages"
              value={count}
              options={[
                ...[500, 5000, 20000, 100000].map((n): [number, string] => [n, `the last ${n.toLocaleString("en")}`]),
                [0, `the lookback, ${spanWord(lookback.spanS)}`],
              ]}
              onChange={(text) => setCount(Number(text))}
            />
            <button
              type="button"
              className="button"
              disabled={Boolean(first) || trial.run.isPending}
              onClick={() => trial.run.mutate({ text: draft.text, ...(count ? { messages: count } : span()) })}
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
        </div>
        {found && (
          <>
            <Figure
              n={found.decoded}
              word={`decoded${found.decoded_before !== null && found.decoded !== found.decoded_before ? `, ${Math.abs(found.decoded - found.decoded_before).toLocaleString("en")} ${found.decoded > found.decoded_before ? "more" : "fewer"} than in force` : ""}`}
            />
            <Figure n={found.failed} word={why(found.reasons)} strong={found.failed > 0} />
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
            {fresh.length > 0 && <Figure n={fresh.length} word={changes(fresh)} />}
          </>
        )}
      </div>
      <div className="flow-root">
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
        <Again type={type} live={Boolean(draft.definition.data?.live)} />
      </div>
    </section>
  );
}
