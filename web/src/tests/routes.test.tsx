import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { routeDraft } from "../places/definitions/beginning";
import Book from "../places/routes/book";
import { flowLayout } from "../places/routes/layout";
import { moved } from "../places/routes/queries";
import Tables from "../places/routes/tables";
import { Way } from "../places/routes/way";
import { answer, asked, sent, serve, show } from "./server";

serve();

const row = (id: number, name: string, more: Record<string, unknown> = {}) => ({
  definition: {
    id,
    kind: "route",
    name,
    type: "pod",
    type_title: "Pods",
    draft: `route "${name}"`,
    live: { id: id * 10, number: 1, text: `route "${name}"`, at: "2026-03-02T09:00:00Z", why: "", who: "Maud" },
    sentence: `Of every pod: drop level (“${name}”).`,
    trouble: null,
    retired: false,
  },
  place: id,
  types: ["Pods"],
  ends: "dropped",
  seen: 1200,
  took: 38,
  failed: 0,
  curve: Array.from({ length: 48 }, (_, i) => i % 3),
  lines: [
    {
      line: 3,
      act: "when",
      words: "when level is above 5 m",
      seen: 1200,
      took: 38,
      failed: 2,
      curve: [0, 1],
      message: "7",
    },
  ],
  outlets: [],
  ...more,
});
const FLOW = {
  nodes: [
    { id: "t1", kind: "type", title: "Pods", count: 900, blocked: false },
    { id: "r1", kind: "route", title: "no fix is no place", count: 900, blocked: false },
    { id: "r2", kind: "route", title: "to the quay", count: 900, blocked: false },
    { id: "o4", kind: "outlet", title: "quay buyers", count: 100, blocked: true },
  ],
  links: [
    { source: "t1", target: "r1", count: 900, what: "seen" },
    { source: "t1", target: "r2", count: 900, what: "seen" },
    { source: "r2", target: "o4", count: 100, what: "sent" },
    { source: "r1", target: "dropped", count: 38, what: "dropped" },
  ],
  unrouted: ["Gates"],
};

const book = (rows: unknown[]) =>
  answer({
    "GET /api/v1/routes": { rows, messages: 4320 },
    "GET /api/v1/routes/flow": FLOW,
    "GET /api/v1/types": { results: [{ key: "pod", title: "Pods", fields: [], setpoints: [] }] },
    "GET /api/v1/outlets": [],
  });

describe("The book of routes", () => {
  it("says of each route what it saw, what it took, and what is wrong with where it sends", async () => {
    const blocked = { id: 4, name: "quay buyers", blocked: true, why: "answered 503", waiting: 118, next_at: null };
    book([row(1, "no fix is no place"), row(2, "to the quay", { seen: 0, took: 0, failed: 3, outlets: [blocked] })]);
    show(<Book />, "/routes", "viewer");
    const listed = await screen.findByRole("grid", { name: "Routes in their order" });
    expect(within(listed).getByText("no fix is no place")).toBeInTheDocument();
    expect(within(listed).getByText("1,200")).toBeInTheDocument();
    expect(within(listed).getByText(/has seen nothing in 24 hours/)).toBeInTheDocument();
    expect(within(listed).getByText(/quay buyers is blocked: answered 503; 118 readings wait/)).toBeInTheDocument();
    expect(within(listed).getByText(/3 could not be told/)).toBeInTheDocument();
    expect(screen.getByText(/2 routes in force, passed from top to bottom · 4,320 messages/)).toBeInTheDocument();
    expect(screen.queryByRole("button", { name: "Begin a route" })).not.toBeInTheDocument();
  });

  it("is put into another order by keys, once it is seen what that would change", async () => {
    book([row(1, "first"), row(2, "second"), row(3, "third")]);
    const level = { field: "level", kind: "number", unit: "m", values: 90, missing: 0, differ: 4, state: "same" };
    const trial = { types: ["Buoy"], messages: 90, fields: [level], sent: [{ outlet: "quay", now: 9, then: 7 }] };
    answer({ "PUT /api/v1/routes/order": [204, null], "POST /api/v1/routes/order/trial": trial });
    show(<Book />, "/routes", "engineer");
    await screen.findByText("second");
    fireEvent.keyDown(window, { key: "ArrowDown" });
    fireEvent.keyDown(window, { key: "PageUp", altKey: true });
    const effect = await screen.findByRole("region", { name: "Another order" });
    expect(await within(effect).findByText("4 of 90 values otherwise", { exact: false })).toBeInTheDocument();
    expect(within(effect).getByText("7 readings instead of 9", { exact: false })).toBeInTheDocument();
    expect(sent("POST", "/api/v1/routes/order/trial")).toEqual({ routes: [2, 1, 3] });
    expect(sent("PUT", "/api/v1/routes/order")).toBeUndefined();
    fireEvent.click(within(effect).getByRole("button", { name: "Put in this order" }));
    await waitFor(() => expect(sent("PUT", "/api/v1/routes/order")).toEqual({ routes: [2, 1, 3] }));
  });

  it("opens a route's lines, and filters by a box of the picture", async () => {
    book([row(1, "no fix is no place"), row(2, "to the quay")]);
    show(<Book />, "/routes", "engineer");
    fireEvent.click(await screen.findByRole("button", { name: "its 1 line" }));
    const lines = screen.getByRole("list", { name: "Lines of no fix is no place" });
    expect(within(lines).getByText("when level is above 5 m")).toBeInTheDocument();
    expect(within(lines).getByText("2 failed")).toBeInTheDocument();
    fireEvent.click(screen.getByRole("button", { name: "quay buyers, 100, blocked" }));
    await waitFor(() => expect(screen.queryByRole("link", { name: "no fix is no place" })).not.toBeInTheDocument());
    expect(screen.getByRole("link", { name: "to the quay" })).toBeInTheDocument();
  });
});

describe("The picture of the flow", () => {
  it("keeps every box inside, and bands no wider than their boxes", () => {
    const { boxes, bands } = flowLayout(FLOW as never, 286, 470);
    expect(boxes.map((b) => b.id)).toEqual(["t1", "r1", "r2", "o4", "dropped"]);
    for (const box of boxes) {
      expect(box.y).toBeGreaterThanOrEqual(0);
      expect(box.y + box.height).toBeLessThanOrEqual(470);
    }
    expect(bands).toHaveLength(4);
    expect(bands.find((b) => b.target === "o4")?.blocked).toBe(true);
  });

  it("moves a route among the others and no further than the ends", () => {
    expect(moved([1, 2, 3], 3, -1)).toEqual([1, 3, 2]);
    expect(moved([1, 2, 3], 1, -1)).toEqual([1, 2, 3]);
    expect(moved([1, 2, 3], 1, 9)).toEqual([2, 3, 1]);
    expect(moved([1, 2], 7, 1)).toEqual([1, 2]);
  });
});

describe("The way of a message", () => {
  const reading = (field: string, value: unknown, missing: string | null = null) => ({
    field,
    kind: "number",
    unit: "m",
    value,
    text: null,
    missing,
    at: "2026-03-02T09:00:00Z",
    device: null,
  });
  const base = { sent: [], error: null, decoder: true };

  it("shows what each line did to which value, and what could not be told", () => {
    const step = { version: 1, definition: 4, route: "rim", device: "pod-0", at: "2026-03-02T09:00:00Z", act: "drop" };
    show(
      <Way
        tried={
          {
            ...base,
            before: [reading("level", 5.6)],
            after: [reading("level", null, "above the rim")],
            steps: [
              { ...step, line: 4, what: "took", fields: { level: [5.6, null] } },
              { ...step, line: 5, act: "derive", what: "failed", because: "`level` is missing" },
            ],
          } as never
        }
      />,
    );
    expect(screen.getByText("gone")).toBeInTheDocument();
    expect(screen.getByText("could not tell: `level` is missing")).toBeInTheDocument();
    expect(screen.getByText(/missing: above the rim/).closest("li")).toHaveClass("font-bold");
  });

  it("says where there is no decoder, and where it refuses", () => {
    const none = { ...base, before: [], after: [], steps: [] };
    const { rerender } = show(<Way tried={{ ...none, decoder: false } as never} />);
    expect(screen.getByText(/no decoder in force yet/)).toBeInTheDocument();
    rerender(<p />);
    show(<Way tried={{ ...none, error: "too short" } as never} />);
    expect(screen.getByText(/refuses it: too short/)).toBeInTheDocument();
  });
});

describe("Reference tables", () => {
  it("are looked at before they are taken, and refused rows are named", async () => {
    answer({
      "GET /api/v1/tables": [],
      "POST /api/v1/tables": {
        columns: [],
        rows: 1,
        refused: [{ line: 3, why: "offset: found `much`, expected a number" }],
        table: null,
      },
    });
    show(<Tables />, "/routes/tables", "engineer");
    fireEvent.click(await screen.findByRole("button", { name: "Add a table" }));
    fireEvent.change(screen.getByLabelText("name"), { target: { value: "samples" } });
    fireEvent.change(screen.getByLabelText("CSV"), { target: { value: "device,x number" } });
    fireEvent.click(screen.getByRole("button", { name: "Look at it first" }));
    expect(await screen.findByText(/offset: found `much`, expected a number/)).toBeInTheDocument();
    expect(sent("POST", "/api/v1/tables")).toEqual({ name: "samples", text: "device,x number", dry_run: true });
    expect(asked.filter((a) => a.method === "POST")).toHaveLength(1);
  });
});

describe("A route's first text", () => {
  const type = {
    key: "pod",
    fields: [
      { name: "level", kind: "number", unit: "m" },
      { name: "fix", kind: "position", unit: null },
    ],
  } as never;

  it("speaks of the type's own fields, and of the topic it is begun from", () => {
    expect(routeDraft("no fix", type, "nonsense", "growers/+/up")).toBe(
      'route "no fix"\n  on pod\n  topic "growers/+/up"\n  when distance(fix, point(0 deg, 0 deg)) < 1 km\n' +
        '    drop "receiver has no fix yet" fix\n',
    );
    expect(routeDraft("on", type, "send", "", "quay")).toContain('send level to "quay"');
    expect(routeDraft("slow", type, "thin")).toContain("thin level by 2 % every 30 min");
  });
});
