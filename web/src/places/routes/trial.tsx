import { useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { Refusal } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { spanWord, useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";
import { useAsked } from "../definitions/asked";
import { Differences } from "../definitions/differences";
import type { useDraft } from "../definitions/draft";
import { Figure } from "../definitions/figure";

type Trial = Schemas["RouteTrialOut"];
const number = (n: number) => n.toLocaleString("en");

/** The draft over what arrived in the lookback: what each line would have taken, what would be gone, what differs. */
export function RouteTrial({
  id,
  draft,
  pick,
}: {
  id: number;
  draft: ReturnType<typeof useDraft>;
  pick: (message: string) => void;
}) {
  const lookback = useLookback();
  const [asked, setAsked] = useState<Record<string, unknown> | null>(null);
  const trial = useAsked<Trial>(`/api/v1/definitions/${id}/trial/progress`, asked ?? {}, asked !== null);
  useEffect(() => setAsked(null), [draft.settled]);
  const first = draft.errors[0];
  const waits = first ? (draft.begun ? `Waits for line ${first.line}` : "Waits") : null;
  const found = asked ? trial.data : undefined;
  const words = new Map((draft.check.data?.lines ?? []).map((line) => [line.line, line.words]));
  const run = () => {
    const [start, end] = lookback.bounds(new Date());
    setAsked({ text: draft.settled, messages: 100_000, start: start.toISOString(), end: end.toISOString() });
  };
  const cutOff = trial.error instanceof Refusal && trial.error.code === "cut off";
  return (
    <section className="trial-bar" aria-label="Trial">
      <div className="flex items-center gap-2">
        <h2>Trial</h2>
        <button
          type="button"
          className="button"
          disabled={Boolean(first) || !draft.upToDate || trial.isFetching}
          onClick={run}
        >
          {waits ?? (trial.isFetching ? "Running …" : `Run over the lookback, ${spanWord(lookback.spanS)}`)}
        </button>
        {trial.at && (
          <>
            <progress max={trial.at.total || 1} value={trial.at.done} aria-label="messages tried" />
            <span>
              {number(trial.at.done)} of {number(trial.at.total)}
            </span>
            <button
              type="button"
              className="link"
              onClick={() => {
                trial.stop();
                setAsked(null);
              }}
            >
              stop
            </button>
          </>
        )}
      </div>
      <span role="status" className="text-[12.5px] text-second">
        {found
          ? `${counted(found.messages, "message")} in ${found.seconds.toFixed(1)} s`
          : trial.at
            ? ""
            : "runs the draft over stored messages; changes nothing, sends nothing"}
      </span>
      {found && (
        <>
          <Figure n={found.values} word="values decoded" />
          <Figure n={found.gone} word="dropped or thinned out, by all routes" strong={found.gone > 0} />
          {found.sent.map((s) => (
            <Figure key={s.outlet} n={s.readings} word={`would go to ${s.outlet}`} />
          ))}
          <Figure
            n={found.fields.reduce((n, f) => n + (f.differ ?? 0), 0)}
            word={found.against ? "values differ from now" : "values differ from without it"}
          />
          <div className="w-full max-h-44 overflow-y-auto" tabIndex={0} role="group" aria-label="Line by line">
            <ol className="rows">
              {found.lines.map((line) => (
                <li key={line.line} className="trial-line text-[13px]">
                  <span className="text-second">line {line.line}</span>
                  <span className="truncate" title={words.get(line.line)}>
                    {words.get(line.line)}
                  </span>
                  <span className="text-right">{number(line.seen)} seen</span>
                  <b className="text-right">{number(line.took)} taken</b>
                  <span className={`text-right ${line.failed ? "font-bold" : "text-second"}`}>
                    {line.failed ? `${number(line.failed)} not told` : "none failed"}
                  </span>
                  {line.examples[0] ? (
                    <button type="button" className="link text-right" onClick={() => pick(line.examples[0]!)}>
                      an example
                    </button>
                  ) : (
                    <span />
                  )}
                </li>
              ))}
            </ol>
            {found.reasons.length > 0 && (
              <p className="mt-1 text-[13px]">
                Dropped: {found.reasons.map((r) => `${number(r.count)} “${r.reason}”`).join(", ")}.
              </p>
            )}
            {found.fields.length > 0 && <Differences fields={found.fields} />}
          </div>
        </>
      )}
      {!cutOff && !(trial.error instanceof DOMException) && <Trouble error={trial.error} />}
    </section>
  );
}
