import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, got, type Schemas } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

export const ofWatch = (lookback: Asked) =>
  queryOptions({
    queryKey: ["watch", ...lookback.key],
    queryFn: ({ signal }) => got(api.GET("/api/v1/watch", { signal, params: { query: lookback.query() } })),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });

export const ofLines = (lookback: Asked, limit: number) =>
  queryOptions({
    queryKey: ["alarms", "lines", "watch", limit, ...lookback.key],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/alarms/lines", { signal, params: { query: { limit, ...lookback.query() } } })),
    placeholderData: keepPreviousData,
  });

export const ofBands = (lookback: Asked, by: string, parts: number, group?: string, offset = 0) =>
  queryOptions({
    queryKey: ["bands", by, parts, group ?? null, offset, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/watch/bands", {
          signal,
          params: {
            query: { by, parts, ...(group === undefined ? {} : { group, limit: ROWS, offset }), ...lookback.query() },
          },
        }),
      ),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });

/** Parts of the span that the states of groups are shown in. */
export const PARTS = 144;
/** Lines of what needs a hand. */
export const MOST_LINES = 12;
/** Devices of an opened group that are shown at once. */
export const ROWS = 60;

/** The curve of what an alarm goes by, over the lookback. */
export const ofCurve = (lookback: Asked, device: string, field: string) =>
  queryOptions({
    queryKey: ["series", device, field, "small", ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}/series", {
          signal,
          params: { path: { name: device }, query: { field: [field], points: 80, ...lookback.query() } },
        }),
      ),
    staleTime: 60_000,
  });

/** Figures of health of one device over the lookback. */
export const ofHealth = (lookback: Asked, device: string) =>
  queryOptions({
    queryKey: ["health", device, ...lookback.key],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/watch/health", { signal, params: { query: { device: [device], ...lookback.query() } } })),
    placeholderData: keepPreviousData,
  });

export const ORDERS = ["title", "availability", "decoded", "complete", "delay", "clock", "alarm"] as const;
export type Order = (typeof ORDERS)[number];

/** Figures of health by device or by group, a page of them. */
export const ofFigures = (lookback: Asked, by: string, order: Order, offset: number) =>
  queryOptions({
    queryKey: ["health", by, order, offset, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/watch/health", {
          signal,
          params: { query: { by, order, limit: ROWS, offset, ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** Means of a field in equal parts of the lookback, of all devices of a type at a site. */
export const ofCourses = (lookback: Asked, type: string, field: string, site: string, points: number) =>
  queryOptions({
    queryKey: ["history", "courses", type, field, site, points, ...lookback.key],
    enabled: Boolean(type && field),
    queryFn: async ({ signal }): Promise<Schemas["HistoryOut"] & { start: number }> => {
      const [from, to] = lookback.bounds(new Date());
      const where = site ? { type, site } : { type };
      const span = { from: from.toISOString(), to: to.toISOString() };
      const query = { ...where, field: [field], aggregate: "mean" as const, points, ...span };
      const told = await got(api.GET("/api/v1/history", { signal, params: { query } }));
      return { ...(told as Schemas["HistoryOut"]), start: from.getTime() };
    },
    placeholderData: keepPreviousData,
  });

/** Curves of fields of a device over the lookback, or over the same span some seconds before, moved into it. */
export const ofDrawn = (lookback: Asked, device: string, fields: string[], earlierS = 0) =>
  queryOptions({
    queryKey: ["series", device, "drawn", fields.join(), earlierS, ...lookback.key],
    enabled: Boolean(device && fields.length),
    queryFn: async ({ signal }) => {
      const [from, to] = lookback
        .bounds(new Date())
        .map((at) => new Date(at.getTime() - earlierS * 1000).toISOString());
      const query = { field: fields, points: 2400, from, to };
      const told = await got(
        api.GET("/api/v1/devices/{name}/series", { signal, params: { path: { name: device }, query } }),
      );
      return earlierS ? { ...told, fields: told.fields.map((f) => ({ ...f, t: f.t.map((t) => t + earlierS) })) } : told;
    },
    placeholderData: keepPreviousData,
    refetchInterval: lookback.live ? 30_000 : false,
  });

/** Where the devices of a type are with a field. */
export const ofAmong = (lookback: Asked, type: string, field: string) =>
  queryOptions({
    queryKey: ["history", "among", type, field, ...lookback.key],
    enabled: Boolean(type && field),
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/history/among", {
          signal,
          params: { query: { type, field, points: 160, ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** How often each value of a field came. */
export const ofSpread = (lookback: Asked, device: string, field: string) =>
  queryOptions({
    queryKey: ["history", "spread", device, field, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}/spread", {
          signal,
          params: { path: { name: device }, query: { field, bins: 40, ...lookback.query() } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** Means of two fields in equal parts of the lookback, where both have one. */
export const ofPairs = (lookback: Asked, one: Chosen, other: Chosen, points: number) =>
  queryOptions({
    queryKey: ["history", "pairs", one, other, points, ...lookback.key],
    queryFn: async ({ signal }) => {
      const [from, to] = lookback.bounds(new Date()).map((at) => at.toISOString());
      const parts = await Promise.all(
        [one, other].map(async ({ device, field }) => {
          const query = { device: [device], field: [field], aggregate: "mean" as const, points, from, to };
          const told = (await got(api.GET("/api/v1/history", { signal, params: { query } }))) as Schemas["HistoryOut"];
          const [line] = told.series;
          return new Map((line?.at ?? []).map((at, k) => [at, line?.value[k] as number]));
        }),
      );
      const [a, b] = parts as [Map<string, number>, Map<string, number>];
      return [...a].flatMap(([at, x]) => {
        const y = b.get(at);
        return y === undefined ? [] : [{ at, x, y }];
      });
    },
    placeholderData: keepPreviousData,
  });

export type Chosen = { device: string; field: string };

/** Rows of the rhythm that are fetched at once. */
export const PAGE = 100;

/** When messages came, a page of devices; asked for again now and then, as it lives. */
export const ofRhythm = (lookback: Asked, filter: Record<string, string>, points: number, page: number) =>
  queryOptions({
    queryKey: ["rhythm", filter, points, page, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/watch/rhythm", {
          signal,
          params: { query: { ...filter, points, limit: PAGE, offset: page * PAGE, ...lookback.query() } },
        }),
      ),
    staleTime: 15_000,
    refetchInterval: lookback.live ? 20_000 : false,
  });
