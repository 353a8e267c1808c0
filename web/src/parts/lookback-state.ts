import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

export const SPANS = [3600, 6 * 3600, 86400, 7 * 86400, 30 * 86400, 90 * 86400, 365 * 86400];
const LONGEST = 400 * 86400;
export const spanWord = (s: number) =>
  s % 86400 === 0
    ? s === 86400
      ? "24 hours"
      : `${s / 86400} days`
    : s >= 5400
      ? `${Math.round((s / 3600) * 10) / 10} hours`
      : `${Math.round(s / 60)} minutes`;

/** A span of time that is asked for. */
export type Asked = {
  spanS: number;
  to: Date | null;
  live: boolean;
  /** Parts of a query key: the same while the lookback is. */
  key: [number, string];
  /** Query parameters, made at the moment of asking. */
  query: () => { from: string; to?: string };
  bounds: (now: Date) => [Date, Date];
};
export type Lookback = Asked & {
  set: (next: { spanS?: number; to?: Date | null }) => void;
};

/** The span of time that an address shows. */
function shown(spanS: number, stamp: number | null): Asked {
  const to = stamp === null ? null : new Date(stamp);
  const bounds = (now: Date): [Date, Date] => {
    const end = to ?? now;
    return [new Date(end.getTime() - spanS * 1000), end];
  };
  return {
    spanS,
    to,
    live: to === null,
    key: [spanS, to?.toISOString() ?? "live"],
    query: () => ({ from: bounds(new Date())[0].toISOString(), ...(to ? { to: to.toISOString() } : {}) }),
    bounds,
  };
}

function partsIn(params: URLSearchParams): [number, number | null] {
  const text = params.get("to");
  const parsed = text ? new Date(text).getTime() : NaN;
  return [Math.min(Math.max(Number(params.get("span")) || 86400, 600), LONGEST), Number.isNaN(parsed) ? null : parsed];
}

export const lookbackIn = (params: URLSearchParams) => shown(...partsIn(params));

/** The span of time that all screens show; it stands in the URL. */
export function useLookback(): Lookback {
  const [params, setParams] = useSearchParams();
  const [spanS, stamp] = partsIn(params);
  const set = useCallback(
    (next: { spanS?: number; to?: Date | null }) =>
      setParams(
        (old) => {
          const fresh = new URLSearchParams(old);
          if (next.spanS !== undefined) {
            if (next.spanS === 86400) fresh.delete("span");
            else fresh.set("span", String(Math.round(next.spanS)));
          }
          if (next.to === null) fresh.delete("to");
          else if (next.to)
            fresh.set("to", new Date(Math.round(next.to.getTime() / 1000) * 1000).toISOString().replace(".000", ""));
          return fresh;
        },
        { replace: true },
      ),
    [setParams],
  );
  return useMemo(() => ({ ...shown(spanS, stamp), set }), [spanS, stamp, set]);
}

/** A link's target that keeps lookback and ground but drops what belongs to one screen. */
export function useKept() {
  const [params] = useSearchParams();
  const kept = new URLSearchParams();
  for (const name of ["span", "to"]) {
    const value = params.get(name);
    if (value) kept.set(name, value);
  }
  const tail = kept.toString();
  return (path: string, more: Record<string, string> = {}) => {
    const all = new URLSearchParams(tail);
    for (const [k, v] of Object.entries(more)) all.set(k, v);
    const query = all.toString();
    return query ? `${path}?${query}` : path;
  };
}
