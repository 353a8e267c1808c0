import { queryOptions } from "@tanstack/react-query";
import { api, got, type Query, type Schemas } from "../../api/client";
import type { Asked } from "../../parts/lookback-state";

/** Decoding again of a type's messages, as far as it is. */
export const ofAgain = (type: string) =>
  queryOptions({
    queryKey: ["again", type],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/types/{key}/decode-again", { signal, params: { path: { key: type } } })),
  });

/** Whether any message of a type is without readings. */
export const ofUndecoded = (type: string) =>
  queryOptions({
    queryKey: ["arrivals", "waiting", type],
    queryFn: async ({ signal }) =>
      (
        await Promise.all([
          got(api.GET("/api/v1/arrivals", { signal, params: { query: { type, outcome: "no decoder", limit: 1 } } })),
          got(api.GET("/api/v1/arrivals", { signal, params: { query: { type, outcome: "refused", limit: 1 } } })),
        ])
      ).some((p) => p.results.length > 0),
  });

/** A draft that answers a question, with numbers of the type's own past. */
export const ofProposal = (type: string, question: string, field: string | null) =>
  queryOptions({
    queryKey: ["propose", type, question, field],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/v1/definitions/propose", {
          signal,
          body: { type, question: question as "quiet", ...(field === null ? {} : { field }) },
        }),
      ),
    staleTime: 60_000,
  });

/** Messages that a decoder must read as they say. */
export const ofCases = (id: number) =>
  queryOptions({
    queryKey: ["cases", id],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/definitions/{ident}/cases", {
          signal,
          params: { path: { ident: id }, query: { limit: 500 } },
        }),
      ),
  });

/** How a text does on the cases; `about`: what else its answer hangs on. */
export const ofRun = (id: number, text: string, about: unknown) =>
  queryOptions({
    queryKey: ["cases run", id, text, about],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/v1/definitions/{ident}/cases/run", {
          signal,
          params: { path: { ident: id } },
          body: { text },
        }),
      ),
    staleTime: Infinity,
  });

/** A message as a text reads it. */
export const ofDecoded = (body: Schemas["DecodeInRequest"]) =>
  queryOptions({
    queryKey: ["decode", body],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/v1/decode", {
          signal,
          body,
        }),
      ),
    staleTime: Infinity,
  });

/** The last messages of a device as a text reads them, field by field. */
export const ofCourses = (text: string, type: string, device: string, until: string) =>
  queryOptions({
    queryKey: ["curves", type, text, device, until],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/v1/decode/curves", {
          signal,
          body: { text, type, device, until },
        }),
      ),
    staleTime: Infinity,
  });

export const ofDefinition = (id: number) =>
  queryOptions({
    queryKey: ["definition", id],
    queryFn: ({ signal }) => got(api.GET("/api/v1/definitions/{ident}", { signal, params: { path: { ident: id } } })),
  });

/** Mistakes in a text, and what it declares. */
export const ofCheck = (kind: Schemas["CheckInRequest"]["kind"], text: string, type: string | null) =>
  queryOptions({
    queryKey: ["check", kind, type, text],
    queryFn: ({ signal }) => got(api.POST("/api/v1/check", { signal, body: { kind, text, type } })),
    staleTime: Infinity,
  });

/** Messages that a version did not read, by line and reason. */
export const ofFailing = (lookback: Asked, id: number) =>
  queryOptions({
    queryKey: ["failing", id, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/definitions/{ident}/failing", {
          signal,
          params: { path: { ident: id }, query: lookback.query() },
        }),
      ),
  });

/** Ways to read some bytes of a device's messages, the most plausible first. */
export const ofGuess = (body: Schemas["GuessInRequest"]) =>
  queryOptions({
    queryKey: ["guess", body],
    queryFn: ({ signal }) => got(api.POST("/api/v1/guess", { signal, body })),
    staleTime: 60_000,
  });

/** What publishing would do at once. */
export const ofEffect = (id: number) =>
  queryOptions({
    queryKey: ["effect", id],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/definitions/{ident}/effect", { signal, params: { path: { ident: id } } })),
  });

/** What people marked in the past of a condition as real, or as not. */
export const ofIncidents = (id: number) =>
  queryOptions({
    queryKey: ["incidents", id],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/definitions/{ident}/incidents", {
          signal,
          params: { path: { ident: id }, query: { limit: 500 } },
        }),
      ),
  });

/** A line of a text as a form. */
export const ofForm = (text: string, line: number) =>
  queryOptions({
    queryKey: ["form", text, line],
    queryFn: ({ signal }) => got(api.POST("/api/v1/form", { signal, body: { text, line } })),
    staleTime: Infinity,
  });

/** How many devices a choice means. */
export const ofChosen = (id: number, body: Schemas["SelectionInRequest"]) =>
  queryOptions({
    queryKey: ["chosen", id, body],
    queryFn: ({ signal }) =>
      got(api.POST("/api/v1/definitions/{ident}/chosen", { signal, params: { path: { ident: id } }, body })),
  });

/** Devices with the version that each runs, and why that one. */
export const ofRuns = (id: number, query: Query<"/api/v1/definitions/{ident}/runs">) =>
  queryOptions({
    queryKey: ["runs", id, query],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/definitions/{ident}/runs", {
          signal,
          params: {
            path: { ident: id },
            query,
          },
        }),
      ),
  });

/** A version that some devices have first, or none. */
export const ofRollout = (id: number | null) =>
  queryOptions({
    queryKey: ["rollout", id],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/definitions/{ident}/rollout", { signal, params: { path: { ident: id as number } } })),
  });

/** Messages to try a text on. */
export const ofSamples = (type: string, outcome: string, device: string) =>
  queryOptions({
    queryKey: ["samples", type, outcome, device],
    queryFn: async ({ signal }) => {
      const find = (o: string) =>
        got(
          api.GET("/api/v1/arrivals", {
            signal,
            params: { query: { type, limit: 40, ...(o ? { outcome: o } : {}), ...(device ? { device } : {}) } },
          }),
        );
      if (outcome) return (await find(outcome)).results;
      // Failing ones first: they are what a decoder is mended for.
      const [refused, waiting, all] = await Promise.all([find("refused"), find("no decoder"), find("")]);
      const seen = new Set<string>();
      return [...refused.results.slice(0, 10), ...waiting.results.slice(0, 10), ...all.results].filter(
        (m) => !seen.has(m.id) && seen.add(m.id),
      );
    },
  });

export const ofVersions = (id: number) =>
  queryOptions({
    queryKey: ["versions", id],
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/definitions/{ident}/versions", { signal, params: { path: { ident: id } } })),
  });
