import { queryOptions } from "@tanstack/react-query";
import { api, got, type Query, type Schemas } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

export const ofOutlets = () =>
  queryOptions({ queryKey: ["outlets"], queryFn: ({ signal }) => got(api.GET("/api/v1/outlets", { signal })) });

export const ofContacts = () =>
  queryOptions({ queryKey: ["contacts"], queryFn: ({ signal }) => got(api.GET("/api/v1/contacts", { signal })) });

export const ofChains = () =>
  queryOptions({ queryKey: ["chains"], queryFn: ({ signal }) => got(api.GET("/api/v1/chains", { signal })) });

export const ofShifts = () =>
  queryOptions({
    queryKey: ["shifts"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/shifts", { signal })),
    refetchInterval: 10_000,
  });

/** The revision that a change is made to, as the server wants to hear it. */
export const ifMatch = (revision: number) => ({ "If-Match": `"${revision}"` });

/** Hosts that an administrator lets outlets reach. */
export const ofReachedHosts = () =>
  queryOptions({
    queryKey: ["reached-hosts"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/reached-hosts", { signal })),
  });

/** Readings that went out by an outlet, and those that wait. */
export const ofSent = (lookback: Asked, id: number) =>
  queryOptions({
    queryKey: ["outlets", id, "readings", ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/outlets/{ident}/readings", {
          signal,
          params: { path: { ident: id }, query: lookback.query() },
        }),
      ),
  });

/** Words of an outlet as they would read for the newest alarm. */
export const ofPreview = (settled: string) =>
  queryOptions({
    queryKey: ["preview", settled],
    queryFn: ({ signal }) =>
      got(api.POST("/api/v1/outlets/preview", { signal, body: JSON.parse(settled) as Schemas["PreviewInRequest"] })),
  });

/** Who would be told of an alarm at a moment. */
export const ofWho = (query: Query<"/api/v1/who-is-told">) =>
  queryOptions({
    queryKey: ["who-is-told", query],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/who-is-told", {
          signal,
          params: {
            query,
          },
        }),
      ),
  });
