import { queryOptions } from "@tanstack/react-query";
import { api, got } from "../api/client";

/** Senders that no device is known for. */
export const ofUnknown = () =>
  queryOptions({
    queryKey: ["arrivals", "unknown"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/unknown-senders", { signal })),
  });

/** What was turned away before it was a message. */
export const ofRefusals = () =>
  queryOptions({
    queryKey: ["arrivals", "refusals"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/refusals", { signal })),
  });

/** Keys by which new devices come in. */
export const ofOnboarding = () =>
  queryOptions({
    queryKey: ["onboarding"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/onboarding", { signal })),
  });

export const ofPeople = () =>
  queryOptions({
    queryKey: ["people"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/people", { signal })),
  });

/** Who did what, the newest first. */
export const ofRecord = () =>
  queryOptions({
    queryKey: ["record"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/record", { signal, params: { query: { limit: 40 } } })),
  });

/** Oculum's own readings and conditions. */
export const ofItself = () =>
  queryOptions({ queryKey: ["itself"], queryFn: ({ signal }) => got(api.GET("/api/v1/itself", { signal })) });

/** Tokens of the person signed in. */
export const ofTokens = () =>
  queryOptions({
    queryKey: ["tokens"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/tokens", { signal })),
  });

/** What takes how much disk, and since when. */
export const ofStorage = () =>
  queryOptions({
    queryKey: ["storage"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/storage", { signal })),
  });
