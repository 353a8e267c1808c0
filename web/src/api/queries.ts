import { queryOptions } from "@tanstack/react-query";
import type { Asked } from "../parts/lookback-state";
import { setZone } from "../parts/time";
import { api, got, setCsrf, type Query } from "./client";

/** Who is signed in. */
export const ofMe = () =>
  queryOptions({
    queryKey: ["me"],
    queryFn: async () => {
      const found = await got(api.GET("/api/v1/me"));
      setCsrf(found.csrf);
      setZone(found.zone);
      return found;
    },
    staleTime: Infinity,
  });

/** What several screens ask for: one key, one way to fetch it. */
export const ofTypes = () =>
  queryOptions({ queryKey: ["types"], queryFn: ({ signal }) => got(api.GET("/api/v1/types", { signal })) });

export const ofLanguage = () =>
  queryOptions({
    queryKey: ["language"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/language", { signal })),
    staleTime: Infinity,
  });

/** The register as it is, or as it was at the end of a lookback. */
const asOf = (lookback?: Asked) => (lookback?.to ? { to: lookback.to.toISOString() } : {});

export const ofSites = (lookback?: Asked) =>
  queryOptions({
    queryKey: ["sites", asOf(lookback)],
    queryFn: ({ signal }) => got(api.GET("/api/v1/sites", { signal, params: { query: asOf(lookback) } })),
  });

export const ofFences = (lookback?: Asked) =>
  queryOptions({
    queryKey: ["fences", asOf(lookback)],
    queryFn: ({ signal }) => got(api.GET("/api/v1/fences", { signal, params: { query: asOf(lookback) } })),
  });

export const ofColleagues = () =>
  queryOptions({
    queryKey: ["colleagues"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/colleagues", { signal })),
    staleTime: 300_000,
  });

/** Notes on a device and versions of its decoder, in the lookback. */
export const ofNotes = (lookback: Asked, name: string) =>
  queryOptions({
    queryKey: ["notes", name, ...lookback.key],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/devices/{name}/notes", { signal, params: { path: { name }, query: lookback.query() } })),
  });

/** Devices in a list, as they are or as they stood at the end of a lookback. */
export const ofDevices = (query: Query<"/api/v1/devices">, lookback?: Asked) =>
  queryOptions({
    queryKey: ["devices", query, ...(lookback?.key ?? [])],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/devices", { signal, params: { query: { ...query, ...lookback?.query() } } })),
  });

/** A device by what it is, whatever its newest values are. */
export const ofNamed = (name: string) =>
  queryOptions({
    queryKey: ["device", name, "named"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/devices/{name}", { signal, params: { path: { name } } })),
    staleTime: 60_000,
  });

/** Decoders, conditions and routes. */
export const ofDefinitions = (asked: Query<"/api/v1/definitions"> = {}, lookback?: Asked) => {
  const query = { ...asked, ...asOf(lookback) };
  return queryOptions({
    queryKey: ["definitions", query],
    queryFn: ({ signal }) => got(api.GET("/api/v1/definitions", { signal, params: { query } })),
  });
};

/** Messages, the newest first. */
export const ofArrivals = (query: Query<"/api/v1/arrivals">) =>
  queryOptions({
    queryKey: ["arrivals", query],
    queryFn: ({ signal }) => got(api.GET("/api/v1/arrivals", { signal, params: { query } })),
  });

/** A message with what became of it. */
export const ofArrival = (ident: string | null | undefined) =>
  queryOptions({
    queryKey: ["arrival", ident],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/arrivals/{ident}", { signal, params: { path: { ident: Number(ident) } } })),
  });

/** The fleet by hours, as the band at the foot shows it: `bandS` seconds from `start` up to `anchor`, or to now. */
export const ofBand = (start: number, bandS: number, anchor: number | null) =>
  queryOptions({
    queryKey: ["lookback", bandS, anchor ?? "live"],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/lookback", {
          signal,
          params: {
            query: { from: new Date(start).toISOString(), ...(anchor ? { to: new Date(anchor).toISOString() } : {}) },
          },
        }),
      ),
  });

/** Selections that somebody has kept. */
export const ofSelections = (of: "devices" | "alarms") =>
  queryOptions({
    queryKey: ["selections", of],
    queryFn: ({ signal }) => got(api.GET("/api/v1/selections", { signal, params: { query: { of } } })),
  });

/** What the stages of the way count. */
export const ofOverview = (to: Date | null | undefined) =>
  queryOptions({
    queryKey: ["overview", to?.toISOString() ?? "live"],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/overview", {
          signal,
          params: { query: to ? { to: to.toISOString() } : {} },
        }),
      ),
  });

/** The way to a reading or to an alarm; `about` as `whyReading` and `whyAlarm` write it. */
export const ofWhy = (about: string) =>
  queryOptions({
    queryKey: ["why", about],
    queryFn: ({ signal }) => {
      const [what, a = "", field = "", message = ""] = about.split(":");
      return what === "alarm"
        ? got(api.GET("/api/v1/why/alarm/{ident}", { signal, params: { path: { ident: Number(a) } } }))
        : got(api.GET("/api/v1/why/reading", { signal, params: { query: { device: a, field, message } } }));
    },
  });

/** What was told and what is to be, the newest first. */
export const ofDeliveries = (query: Query<"/api/v1/deliveries">) =>
  queryOptions({
    queryKey: ["deliveries", query],
    queryFn: ({ signal }) => got(api.GET("/api/v1/deliveries", { signal, params: { query } })),
  });
