import { queryOptions } from "@tanstack/react-query";
import type { Asked } from "../parts/lookback-state";
import { setZone } from "../parts/time";
import { api, got, setCsrf } from "./client";

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

export const ofSites = () =>
  queryOptions({ queryKey: ["sites"], queryFn: ({ signal }) => got(api.GET("/api/v1/sites", { signal })) });

export const ofFences = () =>
  queryOptions({ queryKey: ["fences"], queryFn: ({ signal }) => got(api.GET("/api/v1/fences", { signal })) });

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
