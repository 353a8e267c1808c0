import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Me = Schemas["Me"];

/** What a path of the API takes as its query. */
export type Query<Path extends keyof paths> = paths[Path] extends { get: { parameters: { query?: infer Q } } }
  ? NonNullable<Q>
  : never;

/** A refusal of the server: its code, its sentence, and what else it says. */
export class Refusal extends Error {
  constructor(
    public code: string,
    message: string,
    public status: number,
    public more: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

let csrf = "";
export const setCsrf = (token: string) => {
  csrf = token;
};

export const api = createClient<paths>({
  baseUrl: typeof location === "undefined" ? "http://localhost" : location.origin,
  fetch: (request) => globalThis.fetch(request),
  querySerializer: { array: { style: "form", explode: true } },
});
api.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf);
    return request;
  },
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** What is said where the server gave no words of its own. */
const unsaid = (status: number) =>
  status === 404
    ? "Nothing stands at this address: it may have been removed, or the link is not whole."
    : `The server failed (${status}).`;

/** The data of an answer; throws a Refusal with the server's own words. */
export async function got<T>(answer: Promise<Answer<T>>): Promise<T> {
  let found: Answer<T>;
  try {
    found = await answer;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Refusal("unreachable", "The server does not answer. It is tried again as soon as it is back.", 0);
  }
  if (found.response.ok) return found.data as T;
  throw refusal(found.error, found.response.status);
}

/** A problem document (RFC 9457) as a Refusal; the number by which a failure is found in the log stands behind it. */
function refusal(body: unknown, status: number): Refusal {
  const { code, detail, number, ...more } = (typeof body === "object" && body ? body : {}) as Record<string, unknown>;
  const sentence = typeof detail === "string" ? detail : unsaid(status);
  const words = status >= 500 && typeof number === "string" ? `${sentence} (number ${number})` : sentence;
  return new Refusal(typeof code === "string" ? code : "failed", words, status, more);
}

/** Puts a file at an address as it is, or takes away what stands there (null). */
export async function put(path: string, file: Blob | null): Promise<void> {
  const response = await fetch(path, {
    method: file ? "PUT" : "DELETE",
    headers: { "X-CSRFToken": csrf, ...(file ? { "Content-Type": file.type || "image/jpeg" } : {}) },
    body: file,
  }).catch(() => {
    throw new Refusal("unreachable", "The server does not answer; try it once more.", 0);
  });
  if (!response.ok) throw refusal(await response.json().catch(() => null), response.status);
}

/** The objects of an answer that comes line by line; ends with the signal. */
export async function* lines<T>(path: string, body: unknown, signal: AbortSignal): AsyncGenerator<T> {
  const response = await fetch(path, {
    method: "POST",
    signal,
    headers: { "Content-Type": "application/json", "X-CSRFToken": csrf },
    body: JSON.stringify(body),
  });
  if (!response.ok || !response.body) {
    throw refusal(await response.json().catch(() => null), response.status);
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    const pieces = (rest + (value ?? "")).split("\n");
    rest = pieces.pop() ?? "";
    for (const piece of pieces) {
      if (!piece) continue;
      const step = JSON.parse(piece) as { error?: { status?: number } };
      if (step.error) throw refusal(step.error, step.error.status ?? 500);
      yield step as T;
    }
    if (done) return;
  }
}
