import { queryOptions } from "@tanstack/react-query";
import { api, got, type Query, type Schemas } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

/** Open alarms, those of one cause as one line. */
export const ofCauses = (lookback: Asked, query: Query<"/api/v1/alarms/lines">) =>
  queryOptions({
    queryKey: ["alarms", "lines", query, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/alarms/lines", {
          signal,
          params: { query: { ...query, ...lookback.query() } },
        }),
      ),
  });

/** Alarms one by one. */
export const ofList = (lookback: Asked, query: Query<"/api/v1/alarms">) =>
  queryOptions({
    queryKey: ["alarms", "list", query, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/alarms", {
          signal,
          params: { query: { ...query, ...lookback.query() } },
        }),
      ),
  });

/** Alarms by their numbers, a hundred at a time. */
export const ofMembers = (lookback: Asked, wanted: number[]) =>
  queryOptions({
    queryKey: ["alarms", "members", wanted.join(), ...lookback.key],
    queryFn: async ({ signal }) => {
      const found: Schemas["AlarmOut"][] = [];
      for (let k = 0; k < wanted.length; k += 100) {
        const ids = wanted.slice(k, k + 100).join();
        const page = await got(
          api.GET("/api/v1/alarms", { signal, params: { query: { ids, limit: 100, ...lookback.query() } } }),
        );
        found.push(...page.results);
      }
      return found;
    },
  });

/** What an alarm compared, around it. */
export const ofAround = (a: Schemas["AlarmOut"], span: { from: string; to: string }) =>
  queryOptions({
    queryKey: ["series", "around", a.id, a.cleared_at ?? span.to.slice(0, 16)],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/devices/{name}/series", {
          signal,
          params: { path: { name: a.device ?? "" }, query: { field: [a.field ?? ""], ...span } },
        }),
      ),
  });

/** All that happened to alarms, the newest first. */
export const ofJournal = (lookback: Asked, query: Query<"/api/v1/journal">) =>
  queryOptions({
    queryKey: ["journal", query, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/journal", {
          signal,
          params: { query: { ...query, ...lookback.query() } },
        }),
      ),
  });

/** The standard's figures of alarms, and those of the span before. */
export const ofQuality = (lookback: Asked) =>
  queryOptions({
    queryKey: ["quality", ...lookback.key],
    queryFn: ({ signal }) => got(api.GET("/api/v1/alarms/quality", { signal, params: { query: lookback.query() } })),
  });

/** An alarm with all that is known of it. */
export const ofSheet = (id: number | null) =>
  queryOptions({
    queryKey: ["alarm", id],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/alarms/{ident}/sheet", { signal, params: { path: { ident: id ?? 0 } } })),
  });

/** How many alarms are open, by priority and by what was done with them. */
export const ofSummary = (lookback: Asked) =>
  queryOptions({
    queryKey: ["alarms", "summary", ...lookback.key],
    queryFn: ({ signal }) => got(api.GET("/api/v1/alarms/summary", { signal, params: { query: lookback.query() } })),
  });
