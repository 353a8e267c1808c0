import { useSyncExternalStore } from "react";
import type { Schemas } from "../../api/client";

type Key = Schemas["KeyOut"];

// Keys that were made in this window and not put away yet; in memory only, gone with the page.
let held: ReadonlyMap<string, Key> = new Map();
const watchers = new Set<() => void>();
const put = (next: Map<string, Key>) => {
  held = next;
  watchers.forEach((tell) => tell());
};

export const holdKey = (name: string, made: Key) => put(new Map(held).set(name, made));
export const putAway = (name: string) => put(new Map([...held].filter(([key]) => key !== name)));

/** The key of a device that was made here and not put away yet. */
export const useHeldKey = (name: string | null | undefined) =>
  useSyncExternalStore(
    (tell) => {
      watchers.add(tell);
      return () => watchers.delete(tell);
    },
    () => (name ? held.get(name) : undefined),
  );
