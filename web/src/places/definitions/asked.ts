import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Refusal } from "../../api/client";
import { ended, type Progress } from "./progress";

/**
 * Long work on the server as a query: what is asked for anew ends what was under way, and what is known already is not
 * worked out again. `stop` ends it; the answer before stays.
 */
export function useAsked<Result>(path: string, body: Record<string, unknown>, on: boolean) {
  const client = useQueryClient();
  const [at, setAt] = useState<Progress | null>(null);
  const key = [path, body];
  const found = useQuery({
    queryKey: key,
    enabled: on,
    staleTime: 60_000,
    gcTime: 60_000,
    placeholderData: keepPreviousData,
    // Work that was given up frees its place a moment later.
    retry: (count, error) => error instanceof Refusal && error.status === 429 && count < 20,
    retryDelay: 300,
    queryFn: async ({ signal }) => {
      const result = await ended<Result & { seconds: number }>(path, body, signal, setAt).finally(() => {
        if (!signal.aborted) setAt(null);
      });
      if (result === null) throw new Refusal("cut off", "The answer ended before it was whole; ask once more.", 0);
      return result;
    },
  });
  return {
    ...found,
    at: found.isFetching ? at : null,
    stop: () => void client.cancelQueries({ queryKey: key }),
  };
}
