import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, got, type Query } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

export const ofDevice = (lookback: Asked, name: string) =>
  queryOptions({
    queryKey: ["device", name, ...lookback.key],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/devices/{name}", { signal, params: { path: { name }, query: lookback.query() } })),
  });

/** Alarms of a device in the lookback. */
export const ofAlarms = (lookback: Asked, device: string) =>
  queryOptions({
    queryKey: ["alarms", "device", device, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/alarms", {
          signal,
          params: { query: { device, show: "all", limit: 200, ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** Curves of fields of a device. */
export const ofSeries = (lookback: Asked, device: string, fields: string[]) =>
  queryOptions({
    queryKey: ["series", device, fields.join(), ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}/series", {
          signal,
          params: { path: { name: device }, query: { field: fields, ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
    enabled: fields.length > 0,
    refetchInterval: lookback.live ? 30_000 : false,
  });

/** The newest messages of a device up to the end of the lookback. */
export const ofMessages = (lookback: Asked, device: string) =>
  queryOptions({
    queryKey: ["arrivals", "device", device, lookback.key[1]],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/arrivals", {
          signal,
          params: { query: { device, limit: 6, ...(lookback.to ? { to: lookback.to.toISOString() } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const ofConstants = (name: string) =>
  queryOptions({
    queryKey: ["constants", name],
    queryFn: ({ signal }) => got(api.GET("/api/v1/devices/{name}/constants", { signal, params: { path: { name } } })),
  });

/** What was done to a device, by whom. */
export const ofChanges = (about: string, limit: number) =>
  queryOptions({
    queryKey: ["changes", about],
    queryFn: ({ signal }) => got(api.GET("/api/v1/record", { signal, params: { query: { about, limit } } })),
  });

/** A device as its form begins: never an answer from before. */
export const ofForm = (name: string) =>
  queryOptions({
    queryKey: ["device", name, "edit"],
    gcTime: 0,
    queryFn: ({ signal }) => got(api.GET("/api/v1/devices/{name}", { signal, params: { path: { name } } })),
  });

/** Devices that can speak for others. */
export const ofGateways = () =>
  queryOptions({
    queryKey: ["devices", "gateways"],
    queryFn: async ({ signal }) => {
      const all = (await got(api.GET("/api/v1/types", { signal }))).results;
      const keys = all.filter((t) => t.is_gateway).map((t) => t.key);
      const pages = await Promise.all(
        keys.map((type) =>
          got(api.GET("/api/v1/devices", { signal, params: { query: { type, order: "name", limit: 500 } } })),
        ),
      );
      return pages.flatMap((p) => p.results);
    },
  });

/** Setpoints of a type, a row for each device and site. */
export const ofLimits = (key: string, query: Query<"/api/v1/types/{key}/setpoints">) =>
  queryOptions({
    queryKey: ["limits", key, query],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/types/{key}/setpoints", {
          signal,
          params: { path: { key }, query },
        }),
      ),
  });

/** Where the values of a type's fields lay, to hold limits against. */
export const ofPast = (key: string) =>
  queryOptions({
    queryKey: ["limits past", key],
    staleTime: 300_000,
    queryFn: ({ signal }) => got(api.GET("/api/v1/types/{key}/setpoints-past", { signal, params: { path: { key } } })),
  });

/** Who set a limit to what, and when. */
export const ofHistory = (key: string, query: Query<"/api/v1/types/{key}/setpoints-history">) =>
  queryOptions({
    queryKey: ["limits history", key, query],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/types/{key}/setpoints-history", {
          signal,
          params: { path: { key }, query },
        }),
      ),
  });

/** Figures of a site's devices by their types. */
export const ofSiteHealth = (lookback: Asked, site: string) =>
  queryOptions({
    queryKey: ["health", "site", site, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/watch/health", {
          signal,
          params: { query: { by: "type", site, limit: 50, ...lookback.query() } },
        }),
      ),
  });
