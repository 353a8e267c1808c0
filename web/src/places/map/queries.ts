import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, got } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";
import type { Feature } from "./shape";

/** Where everything is at the end of the lookback. */
export const ofMap = (lookback: Asked) =>
  queryOptions({
    queryKey: ["map", lookback.to?.toISOString() ?? "live"],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/map", { signal, params: { query: lookback.to ? { to: lookback.to.toISOString() } : {} } })),
    placeholderData: keepPreviousData,
    refetchInterval: lookback.live ? 30_000 : false,
  });

export const ofGround = () =>
  queryOptions({
    queryKey: ["map ground"],
    staleTime: Infinity,
    queryFn: async ({ signal }) => {
      const answer = await fetch("/api/v1/map/ground", { signal });
      if (!answer.ok) throw new Error("Land and water could not be fetched.");
      return (await answer.json()) as GeoJSON.FeatureCollection;
    },
  });

export const ofTrack = (device: string | null, lookback: Asked) =>
  queryOptions({
    queryKey: ["track", device, ...lookback.key],
    enabled: device !== null,
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/map/track", { signal, params: { query: { device: device ?? "", ...lookback.query() } } })),
  });

const MOST_DAYS = 31;

/** Who crossed an area in the lookback, at most 31 days of it, and who is inside at its end. */
export const ofCrossings = (feature: Feature | null, lookback: Asked) =>
  queryOptions({
    queryKey: ["crossings", feature, ...lookback.key],
    enabled: feature !== null,
    staleTime: 60_000,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) => {
      // By the minute: what is asked for again while a corner is moved is the same past.
      const [start, end] = lookback.bounds(new Date(Math.floor(Date.now() / 60_000) * 60_000));
      const least = new Date(end.getTime() - MOST_DAYS * 86_400_000);
      return got(
        api.POST("/api/v1/fences/crossings", {
          signal,
          body: {
            feature: feature!,
            start: (start < least ? least : start).toISOString(),
            end: end.toISOString(),
          },
        }),
      );
    },
  });

export const ofFenceVersions = (id: number | null) =>
  queryOptions({
    queryKey: ["fence versions", id],
    enabled: id !== null,
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/fences/{ident}/versions", { signal, params: { path: { ident: id ?? 0 } } })),
  });
