import { useMutation } from "@tanstack/react-query";
import { useRef, type ReactNode } from "react";
import { api, got } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import type { useDraft } from "./draft";

/** The draft over the stored past; nothing is changed, and it can be stopped. */
export function useTrial(id: number, text: string, span: { messages: number; days: number }) {
  const control = useRef<AbortController | null>(null);
  const run = useMutation({
    mutationFn: () => {
      control.current = new AbortController();
      return got(
        api.POST("/api/v1/definitions/{ident}/trial", {
          params: { path: { ident: id } },
          body: { text, ...span },
          signal: control.current.signal,
        }),
      );
    },
  });
  return { run, stop: () => control.current?.abort() };
}

/** How far the trial reaches, the button that runs it, and what it waits for. */
export function TrialRun({
  draft,
  trial,
  about,
  label,
  value,
  options,
  onChange,
  done,
}: {
  draft: ReturnType<typeof useDraft>;
  trial: ReturnType<typeof useTrial>;
  about: string;
  label: string;
  value: number;
  options: [number, string][];
  onChange: (value: number) => void;
  done: ReactNode;
}) {
  const first = draft.errors[0];
  const { run, stop } = trial;
  return (
    <div>
      <h2 className="mb-1">
        Trial <span>· {about}</span>
      </h2>
      <div className="flex items-center gap-2">
        <Pick label={label} value={value} options={options} onChange={(text) => onChange(Number(text))} />
        <button
          type="button"
          className="button"
          disabled={Boolean(first) || run.isPending}
          onClick={() => run.mutate()}
        >
          {first ? `Waits for line ${first.line}` : run.isPending ? "Running …" : "Run"}
        </button>
        {run.isPending && (
          <button type="button" className="link" onClick={stop}>
            stop
          </button>
        )}
      </div>
      {!(run.error instanceof DOMException) && <Trouble error={run.error} />}
      {run.data && (
        <p className="mt-1 text-[12.5px] text-second">
          {done} in {run.data.seconds.toFixed(1)} s
        </p>
      )}
    </div>
  );
}

export const Figure = ({ n, word, strong = false }: { n: number; word: string; strong?: boolean }) => (
  <div className="flex max-w-80 items-baseline gap-1.5">
    <div className={`text-[17px] ${strong ? "font-bold" : "font-semibold"}`}>{n.toLocaleString("en")}</div>
    <div className="text-[12.5px] leading-tight text-second">{word}</div>
  </div>
);
