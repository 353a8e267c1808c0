import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { MeContext } from "../parts/me";

/** What a screen asked of the server, in order. */
export const asked: { method: string; url: URL; body: unknown; headers: Headers }[] = [];
let answers: Record<string, unknown> = {};

/** Answers by method and path: what is told with 200, or [status, what]. Those given before stay. */
export const answer = (more: Record<string, unknown>) => {
  answers = { ...answers, ...more };
};

/** The last body that was sent to a path. */
export const sent = (method: string, path: string) =>
  asked.findLast((a) => a.method === method && a.url.pathname === path)?.body;

/** The server as far as a screen sees it, for the tests of a file. */
export function serve() {
  beforeEach(() => {
    asked.length = 0;
    answers = {};
    Element.prototype.scrollIntoView = () => undefined;
    vi.stubGlobal("fetch", async (input: Request | string) => {
      const request = typeof input === "string" ? new Request(new URL(input, "http://localhost")) : input;
      const url = new URL(request.url);
      const body = request.method === "GET" ? null : await request.json().catch(() => null);
      asked.push({ method: request.method, url, body, headers: request.headers });
      const found = answers[`${request.method} ${url.pathname}`];
      const [status, data] =
        found === undefined
          ? [404, { code: "not found", detail: "nothing here" }]
          : Array.isArray(found) && typeof found[0] === "number"
            ? (found as [number, unknown])
            : [200, found];
      if (status === 204) return new Response(null, { status });
      return new Response(JSON.stringify(data), { status, headers: { "Content-Type": "application/json" } });
    });
  });
  afterEach(() => vi.unstubAllGlobals());
}

function Where() {
  const { pathname, search } = useLocation();
  return <output>{pathname + search}</output>;
}

/** A screen at a path, for somebody of a role. */
export function show(child: ReactNode, path = "/", role = "operator") {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const shown = render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[path]}>
        <MeContext
          value={{
            username: "maud",
            name: "Maud Varn",
            role: role as "operator",
            zone: "UTC",
            must_change_password: false,
            csrf: "",
          }}
        >
          {child}
          <Where />
        </MeContext>
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return { ...shown, client };
}
