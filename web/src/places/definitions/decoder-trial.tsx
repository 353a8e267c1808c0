import { useState } from "react";
import { Link } from "react-router";
import { Trouble } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";
import { Again } from "./again";
import { Differences } from "./differences";
import type { useDraft } from "./draft";
import type { DecoderTrial, useProgress } from "./progress";
import { Figure } from "./figure";

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

/** How many more or fewer than the version in force. */
const than = (more: number) =>
  more ? `, ${Math.abs(more).toLocaleString("en")} ${more > 0 ? "more" : "fewer"} than in force` : "";

type Trying = { draft: ReturnType<typeof useDraft>; trial: ReturnType<typeof useProgress<DecoderTrial>> };

/** The draft over stored messages: one line, and what came of it. */
export function TrialBar({ draft, trial }: Trying) {
  const [count, setCount] = useState(5000);
  const lookback = useLookback();
  const span = () => {
    const [start, end] = lookback.bounds(new Date());
    return { messages: 100_000, start: start.toISOString(), end: end.toISOString() };
  };
  const first = draft.errors[0];
  const waits = first ? (draft.begun ? `Waits for line ${first.line}` : "Waits") : null;
  const found = trial.run.data;
  const changed = found?.fields.filter((f) => f.differ) ?? [];
  const fresh = found?.fields.filter((f) => f.state !== "same") ?? [];
  const before = found?.decoded_before ?? null;
  const whose = trial.run.variables?.chosen ? " of the chosen devices" : "";
  const more = found && before !== null ? found.decoded - before : 0;
  return (
    <section className="trial-bar" aria-label="Trial">
      <div className="flex items-center gap-2">
        <h2>Trial</h2>
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
          {waits ?? (trial.run.isPending ? "Running …" : "Run")}
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
      <span role="status" className="text-[12.5px] text-second">
        {found
          ? `${counted(found.messages, "message")}${whose} in ${found.seconds.toFixed(1)} s`
          : trial.at
            ? ""
            : "runs the draft over stored messages; changes nothing"}
      </span>
      {found && (
        <>
          <Figure n={found.decoded} word={`decoded${than(more)}`} />
          <Figure n={found.failed} word={why(found.reasons)} strong={found.failed > 0} />
          {found.partly > 0 && <Figure n={found.partly} word="decoded in part" />}
          {before !== null && (
            <Figure
              n={changed.reduce((a, f) => a + (f.differ ?? 0), 0)}
              word={changed.length ? `values differ, in ${counted(changed.length, "field")}` : "values differ"}
            />
          )}
          {fresh.length > 0 && <Figure n={fresh.length} word={changes(fresh)} />}
        </>
      )}
      {!(trial.run.error instanceof DOMException) && <Trouble error={trial.run.error} />}
    </section>
  );
}

/** What a trial found, field by field and reason by reason; and decoding again. */
export function TrialDetails({ id, type, draft, trial }: Trying & { id: number; type: string }) {
  const kept = useKept();
  const found = trial.run.data;
  const changed = found?.fields.filter((f) => f.differ) ?? [];
  return (
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
  );
}
