import { queryOptions } from "@tanstack/react-query";
import { api, got } from "../../api/client";

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
