import type { QueryClient } from "@tanstack/react-query";
import { lazy, useState, type ComponentType } from "react";
import { matchPath } from "react-router";
import { ofMe, ofNotes } from "./api/queries";
import { lookbackIn, type Asked } from "./parts/lookback-state";
import { ofAlarms, ofConstants, ofDevice, ofMessages } from "./places/devices/queries";
import { MOST_LINES, ofBands, ofHealth, ofLines, ofWatch, PARTS } from "./places/watch/queries";

type Begun = { client: QueryClient; lookback: Asked; named: Record<string, string | undefined> };
type Load = () => Promise<{ default: ComponentType }>;
type Screen = { path: string; load: Load; Shown: ComponentType; ask?: (begun: Begun) => void };

/** A screen by its path. ask: what it will ask for first, asked for while its code is still on its way.
 *
 * Where its code is there already it is drawn at once: behind a fallback it would be held back for a third of a second.
 */
function at(path: string, load: Load, ask?: Screen["ask"]): Screen {
  let found: ComponentType | undefined;
  const fetched = async () => {
    const module = await load();
    found = module.default;
    return module;
  };
  const Later = lazy(fetched);
  function Shown() {
    const [Own] = useState(() => found ?? Later);
    return <Own />;
  }
  return { path, load: fetched, Shown, ...(ask ? { ask } : {}) };
}

export const SCREENS: Screen[] = [
  at(
    "/watch",
    () => import("./places/watch/watch"),
    ({ client, lookback }) => {
      void client.prefetchQuery(ofWatch(lookback));
      void client.prefetchQuery(ofBands(lookback, "site", PARTS));
      void client.prefetchQuery(ofLines(lookback, MOST_LINES));
    },
  ),
  at("/watch/health", () => import("./places/watch/health")),
  at("/watch/compare", () => import("./places/watch/compare")),
  at("/watch/curves", () => import("./places/watch/curves")),
  at("/watch/rhythm", () => import("./places/watch/rhythm")),
  at("/devices", () => import("./places/devices/list").then((m) => ({ default: m.Devices }))),
  at("/devices/add", () => import("./places/devices/add")),
  at("/devices/types", () => import("./places/devices/types")),
  at("/devices/types/:key", () => import("./places/devices/types")),
  at("/devices/types/:key/setpoints", () => import("./places/devices/limits")),
  at("/devices/sites", () => import("./places/devices/sites")),
  at("/devices/sites/:name", () => import("./places/devices/sites")),
  at(
    "/devices/:name",
    () => import("./places/devices/device"),
    ({ client, lookback, named: { name = "" } }) => {
      void client.prefetchQuery(ofDevice(lookback, name));
      void client.prefetchQuery(ofHealth(lookback, name));
      void client.prefetchQuery(ofAlarms(lookback, name));
      void client.prefetchQuery(ofMessages(lookback, name));
      void client.prefetchQuery(ofNotes(lookback, name));
      void client.prefetchQuery(ofConstants(name));
    },
  ),
  at("/devices/:name/edit", () => import("./places/devices/edit")),
  at("/arrivals", () => import("./places/arrivals")),
  at("/decoders", () => import("./places/definitions/list").then((m) => ({ default: m.Decoders }))),
  at("/decoders/:id", () => import("./places/definitions/decoder")),
  at("/routes", () => import("./places/routes/book")),
  at("/routes/try", () => import("./places/routes/try")),
  at("/routes/tables", () => import("./places/routes/tables")),
  at("/routes/:id", () => import("./places/routes/route")),
  at("/conditions", () => import("./places/definitions/list").then((m) => ({ default: m.Conditions }))),
  at("/conditions/:id", () => import("./places/definitions/condition")),
  at("/alarms", () => import("./places/alarms/alarms")),
  at("/places", () => import("./places/map/map")),
  at("/telling", () => import("./places/telling/telling")),
  at("/people", () => import("./places/people")),
  at("/settings", () => import("./places/settings")),
  at("/settings/storage", () => import("./places/storage")),
  at("/settings/archive", () => import("./places/archive")),
  at("/help", () => import("./places/help")),
  at("/help/:doc", () => import("./places/help")),
];

/** Begins with what an address shows before anything is drawn: who is there, the screen's code, what it asks for. */
export async function begin(client: QueryClient, address: Location): Promise<void> {
  void client.prefetchQuery(ofMe());
  const path = address.pathname === "/" ? "/watch" : address.pathname;
  for (const screen of SCREENS) {
    const found = matchPath(screen.path, path);
    if (!found) continue;
    screen.ask?.({ client, lookback: lookbackIn(new URLSearchParams(address.search)), named: found.params });
    await screen.load().catch(() => undefined); // the screen says so itself when it is to be drawn
    return;
  }
}

/** Fetches the code of all screens, one after the other, while there is nothing else to do and bytes are not dear. */
export async function fetchAll(): Promise<void> {
  const line = (navigator as { connection?: { saveData?: boolean } }).connection;
  if (line?.saveData) return;
  for (const screen of SCREENS) {
    await idle();
    if (screen === SCREENS[0]) performance.mark("idle"); // what came before is what the first screen needs
    await screen.load().catch(() => undefined);
  }
}

const idle = () =>
  new Promise<void>((resolve) => {
    if ("requestIdleCallback" in window) window.requestIdleCallback(() => resolve());
    else setTimeout(resolve, 200);
  });
