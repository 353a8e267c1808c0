import { queryOptions } from "@tanstack/react-query";
import { api, got, type Schemas } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

export type Row = Schemas["BookRow"];

/** All routes in their order, with what they have done in the lookback. */
export const ofBook = (lookback: Asked) =>
  queryOptions({
    queryKey: ["definitions", "book", ...lookback.key],
    queryFn: ({ signal }) => got(api.GET("/api/v1/routes", { signal, params: { query: lookback.query() } })),
    refetchInterval: 30_000,
  });

/** Where the readings of the lookback went. */
export const ofFlow = (lookback: Asked) =>
  queryOptions({
    queryKey: ["definitions", "flow", ...lookback.key],
    queryFn: ({ signal }) => got(api.GET("/api/v1/routes/flow", { signal, params: { query: lookback.query() } })),
    refetchInterval: 30_000,
  });

export const ofTables = () =>
  queryOptions({ queryKey: ["tables"], queryFn: ({ signal }) => got(api.GET("/api/v1/tables", { signal })) });

/** A route put before or behind its neighbour, in a list of all that have a place. */
export function moved(ids: number[], id: number, by: number): number[] {
  const from = ids.indexOf(id);
  const to = Math.min(Math.max(from + by, 0), ids.length - 1);
  if (from < 0 || from === to) return ids;
  const rest = ids.filter((other) => other !== id);
  return [...rest.slice(0, to), id, ...rest.slice(to)];
}

/** The rows as they would stand in another order: those with a place move, numbered anew, all others stay behind. */
export function inOrder(rows: Row[], wanted: number[] | null): Row[] {
  if (wanted === null) return rows;
  const place = new Map(wanted.map((id, k) => [id, k + 1]));
  return rows
    .map((row) => ({ ...row, place: row.place === null ? null : (place.get(row.definition.id) ?? row.place) }))
    .sort((a, b) => (a.place ?? Infinity) - (b.place ?? Infinity) || 0);
}

/** What another order of routes would do to the readings of the past. */
export const ofOrder = (routes: number[]) =>
  queryOptions({
    queryKey: ["order", routes.join()],
    queryFn: ({ signal }) => got(api.POST("/api/v1/routes/order/trial", { signal, body: { routes } })),
  });

/** A message on its way through the routes. */
export const ofTry = (body: Schemas["TryInRequest"]) =>
  queryOptions({
    queryKey: ["try", body],
    queryFn: ({ signal }) => got(api.POST("/api/v1/routes/try", { signal, body })),
  });

/** A reference table with its first rows. */
export const ofTable = (id: number) =>
  queryOptions({
    queryKey: ["tables", id],
    queryFn: ({ signal }) => got(api.GET("/api/v1/tables/{ident}", { signal, params: { path: { ident: id } } })),
  });
