import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { lines, type Schemas } from "../../api/client";

export type DecoderTrial = Schemas["DecoderTrialOut"];
type Ask = { text?: string; messages?: number; chosen?: boolean; days?: number; start?: string; end?: string };
type Step<Result> = { done?: number; total?: number; result?: Result };
export type Progress = { done: number; total: number };

/** What long work on the server ends with, null where its answer is cut off; tells meanwhile how far it is. */
export async function ended<Result>(
  path: string,
  body: unknown,
  signal: AbortSignal,
  tell: (at: Progress) => void,
): Promise<Result | null> {
  let result: Result | null = null;
  tell({ done: 0, total: 0 });
  for await (const step of lines<Step<Result>>(path, body, signal)) {
    if (step.result) result = step.result;
    else tell({ done: step.done ?? 0, total: step.total ?? 0 });
  }
  return result;
}

/** The draft over the stored past, with how far it is; stopping it ends the work on the server. */
export function useProgress<Trial>(path: string) {
  type Result = Trial & { seconds: number };
  const control = useRef<AbortController | null>(null);
  const [at, setAt] = useState<Progress | null>(null);
  const run = useMutation({
    mutationFn: (body: Ask) => {
      control.current = new AbortController();
      return ended<Result>(path, body, control.current.signal, setAt);
    },
    onSettled: () => setAt(null),
  });
  return { run, at, stop: () => control.current?.abort() };
}
