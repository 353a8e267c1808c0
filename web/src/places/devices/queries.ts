import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, got } from "../../api/client";
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
