import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { lines, type Schemas } from "../../api/client";

type Result = Schemas["DecoderTrialOut"] & { seconds: number };
type Ask = { text?: string; messages?: number; chosen?: boolean; start?: string; end?: string };
type Step = { done?: number; total?: number; result?: Result };

/** The draft over stored messages, with how far it is; stopping it ends the work on the server. */
export function useProgress(path: string) {
  const control = useRef<AbortController | null>(null);
  const [at, setAt] = useState<{ done: number; total: number } | null>(null);
  const run = useMutation({
    mutationFn: async (body: Ask) => {
      control.current = new AbortController();
      setAt({ done: 0, total: 0 });
      let result: Result | null = null;
      for await (const step of lines<Step>(path, body, control.current.signal)) {
        if (step.result) result = step.result;
        else setAt({ done: step.done ?? 0, total: step.total ?? 0 });
      }
      return result;
    },
    onSettled: () => setAt(null),
  });
  return { run, at, stop: () => control.current?.abort() };
}
