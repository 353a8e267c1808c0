import { useQueryClient, type Query, type QueryClient } from "@tanstack/react-query";
import { useEffect, useSyncExternalStore } from "react";
import { connected } from "./socket";

export type Frame = {
  seq?: number;
  hello?: number;
  resync?: boolean;
  arrivals?: boolean;
  devices?: string[];
  many?: boolean;
  alarms?: number[];
  control?: string[];
  messages?: number;
};

const QUICK_MS = 150; // a first change is shown this soon,
const CALM_MS = 1000; // and those that follow it at this distance

export type LiveState = "live" | "connecting" | "lost";
let state: LiveState = "connecting";
const watchers = new Set<() => void>();
const set = (next: LiveState) => {
  if (next === state) return;
  state = next;
  watchers.forEach((tell) => tell());
};

/** Whether the screen follows the server at this moment. */
export const useLiveState = () =>
  useSyncExternalStore(
    (tell) => {
      watchers.add(tell);
      return () => watchers.delete(tell);
    },
    () => state,
  );

/** Which queries a frame makes stale, as predicates over query keys. */
export function staleBy(frame: Frame): (key: readonly unknown[]) => boolean {
  if (frame.resync) return () => true;
  const devices = new Set(frame.devices ?? []);
  return (key) => {
    const [what, id] = key;
    if (what === "arrivals") return Boolean(frame.arrivals) || devices.size > 0;
    if (what === "device" || what === "series") return devices.size > 0 && (frame.many || devices.has(id as string));
    if (what === "devices" || what === "overview") return devices.size > 0 || Boolean(frame.alarms?.length);
    if (what === "alarms" || what === "journal" || what === "why" || what === "lookback" || what === "map")
      return Boolean(frame.alarms?.length);
    if (what === "definitions" || what === "definition" || what === "again") return Boolean(frame.control?.length);
    return false;
  };
}

function follow(client: QueryClient): () => void {
  let last: number | null = null;
  let closed = false;
  let waiting: Frame[] = [];
  let timer = 0;
  let flushed = 0;
  const again = new Set<string>();
  const renew = (query: Query) => {
    const key = query.queryHash;
    if (closed || again.has(key)) return;
    if (query.state.fetchStatus !== "fetching" || !query.promise) {
      void client.invalidateQueries({ queryKey: query.queryKey, exact: true }, { cancelRefetch: false });
      return;
    }
    // The answer on its way may be older than the change: it is not thrown away, but asked for once more.
    again.add(key);
    const settled = () => {
      again.delete(key);
      renew(query);
    };
    query.promise.then(settled, settled);
  };
  const flush = () => {
    timer = 0;
    flushed = Date.now();
    const stale = waiting.map(staleBy);
    waiting = [];
    client
      .getQueryCache()
      .findAll({ predicate: (query) => stale.some((is) => is(query.queryKey)) })
      .forEach(renew);
  };
  const leave = connected(
    () => `/live/${last === null ? "" : `?since=${last}`}`,
    (told, well) => {
      const frame = told as Frame;
      if (frame.hello !== undefined) {
        set("live");
        well();
        last = Math.max(last ?? 0, frame.hello);
        if (!frame.resync) return;
      }
      if (frame.seq !== undefined) last = frame.seq;
      waiting.push(frame);
      if (waiting.length > 200) waiting = [{ resync: true }];
      if (!timer) timer = window.setTimeout(flush, Math.max(QUICK_MS, flushed + CALM_MS - Date.now()));
    },
    (code) => {
      set("lost");
      if (code === 4401) void client.invalidateQueries({ queryKey: ["me"] });
      return true;
    },
  );
  return () => {
    closed = true;
    window.clearTimeout(timer);
    leave();
  };
}

/** Keeps the screens true while the person is signed in. */
export function useLive(on: boolean) {
  const client = useQueryClient();
  useEffect(() => (on ? follow(client) : undefined), [on, client]);
}
