import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Palette } from "../parts/palette";
import Alarms from "../places/alarms/alarms";
import { Devices } from "../places/devices/list";
import { SignIn } from "../places/sign-in";
import { answer, asked, serve, show } from "./server";

serve();

const alarm = (id: number, more: object = {}) => ({
  id,
  condition: "oxygen is too low",
  definition: 4,
  version: 1,
  device: `buoy-0${id}`,
  device_title: `Buoy 0${id}`,
  site_title: "Merle Reach",
  priority: "high",
  text: `Buoy 0${id} has 3.1 mg/L`,
  field: "oxygen",
  value: 3.1,
  limit: 5,
  unit: "mg/L",
  raised_at: "2026-03-02T09:10:00Z",
  cleared_at: null,
  acknowledged_at: null,
  acknowledged_by: null,
  assigned_to: null,
  undo_until: null,
  shelved_until: null,
  shelved_by: null,
  shelved_why: null,
  suppressed: false,
  notes: 0,
  message_id: "1",
  ...more,
});

/** Open alarms by cause, as the server gives them. */
const lines = (alarms: ReturnType<typeof alarm>[], groups: object[] = []) => ({
  count: alarms.length,
  unacknowledged: alarms.length,
  lines: alarms.length + groups.length,
  shelved: 1,
  returned: 0,
  suppressed: 0,
  results: [
    ...groups.map((group) => ({ group, alarm: null })),
    ...alarms.map((found) => ({ group: null, alarm: found })),
  ],
});
const TAKEN = { acknowledged_at: "2026-03-02T09:20:00Z", acknowledged_by: "Maud Varn" };
const SAG = {
  key: "condition-1",
  kind: "condition",
  title: "oxygen is too low",
  why: "one condition on several devices",
  where: "Merle Reach and Gull Bank",
  priority: "high",
  since: "2026-03-02T02:10:00Z",
  devices: 3,
  unacknowledged: 3,
  alarms: [11, 12, 13],
  explained: 0,
};

const device = (name: string, more: object = {}) => ({
  id: 1,
  name,
  title: name,
  type: "raft_buoy",
  type_title: "Raft buoy",
  site: "merle",
  site_title: "Merle Reach",
  gateway: null,
  labels: {},
  phase: "in service",
  state: "reporting",
  received_at: "2026-03-02T09:10:00Z",
  cadence_s: 600,
  alarms: [],
  columns: {},
  rhythm: [3, 0, 3],
  failing: [0, 0, 0],
  ...more,
});

describe("alarms", () => {
  beforeEach(() => {
    answer({
      "GET /api/v1/alarms/lines": lines([alarm(1), alarm(2, { priority: "low" })]),
      "GET /api/v1/alarms/summary": [],
      "GET /api/v1/sites": { results: [] },
      "GET /api/v1/types": { results: [] },
      "GET /api/v1/colleagues": [{ username: "jory", name: "Jory Teal" }],
      "POST /api/v1/alarms/acknowledge": { alarms: [alarm(2, TAKEN)], refused: [] },
      "POST /api/v1/alarms/give-back": { alarms: [alarm(2)], refused: [] },
    });
  });
  const posts = () => asked.filter((a) => a.method === "POST").map((a) => [a.url.pathname.slice(8), a.body]);

  it("are walked and taken by keys", async () => {
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    const list = screen.getByRole("grid", { name: "Alarms" });
    expect(within(list).getAllByRole("row")).toHaveLength(2);
    fireEvent.keyDown(window, { key: "ArrowDown" });
    fireEvent.keyDown(window, { key: "a" });
    await waitFor(() => expect(posts()).toEqual([["alarms/acknowledge", { alarms: [2] }]]));
  });

  it("that arrive do not move the cursor: the chosen one is taken, and can be given back", async () => {
    const { client } = show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
    expect(screen.getByRole("row", { selected: true })).toHaveFocus();
    answer({ "GET /api/v1/alarms/lines": lines([alarm(3), alarm(1), alarm(2)]) });
    await client.invalidateQueries();
    await screen.findByText("Buoy 03 has 3.1 mg/L");
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
    fireEvent.keyDown(window, { key: "a" });
    await screen.findByText(/You took/);
    fireEvent.keyDown(window, { key: "z" });
    await waitFor(() => expect(screen.queryByText(/You took/)).toBeNull());
    expect(posts()).toEqual([
      ["alarms/acknowledge", { alarms: [2] }],
      ["alarms/give-back", { alarms: [2] }],
    ]);
  });

  it("that leave take the choice with them: no other is taken in their place", async () => {
    const { client } = show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    answer({ "GET /api/v1/alarms/lines": lines([alarm(2)]) });
    await client.invalidateQueries();
    await waitFor(() => expect(screen.queryByText("Buoy 01 has 3.1 mg/L")).toBeNull());
    expect(screen.queryByRole("row", { selected: true })).toBeNull();
    fireEvent.keyDown(window, { key: "a" });
    expect(posts()).toEqual([]);
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
  });

  it("of one cause are one line: unfolded, and taken as one", async () => {
    answer({
      "GET /api/v1/alarms/lines": lines([alarm(1)], [SAG]),
      "GET /api/v1/alarms": { count: 3, unacknowledged: 3, results: [11, 12, 13].map((n) => alarm(n)) },
    });
    show(<Alarms />, "/alarms");
    await screen.findByText(/oxygen is too low: 3 devices at Merle Reach and Gull Bank/);
    fireEvent.keyDown(window, { key: "Enter" });
    await screen.findByText("Buoy 012 has 3.1 mg/L");
    expect(asked.findLast((a) => a.url.pathname === "/api/v1/alarms")?.url.searchParams.get("ids")).toBe("11,12,13");
    fireEvent.keyDown(window, { key: "a" });
    await waitFor(() => expect(posts()).toEqual([["alarms/acknowledge", { alarms: [11, 12, 13] }]]));
    fireEvent.click(screen.getByRole("button", { name: "take apart" }));
    await waitFor(() => expect(screen.queryByText(/oxygen is too low: 3 devices/)).toBeNull());
    expect(within(screen.getByRole("grid", { name: "Alarms" })).getAllByRole("row")).toHaveLength(4);
  });

  it("are marked, and put aside together until a moment, with a reason", async () => {
    answer({ "POST /api/v1/alarms/shelve": { alarms: [alarm(1), alarm(2)], refused: [] } });
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "x" });
    fireEvent.keyDown(window, { key: "ArrowDown" });
    fireEvent.keyDown(window, { key: "x" });
    expect(screen.getByRole("toolbar", { name: "Marked alarms" })).toHaveTextContent("2 alarms marked");
    fireEvent.keyDown(window, { key: "s" });
    const box = await screen.findByRole("dialog");
    expect(within(box).getByRole("button", { name: "Shelve" })).toBeDisabled();
    fireEvent.click(within(box).getByRole("button", { name: "8 hours" }));
    fireEvent.change(within(box).getByRole("textbox", { name: "Why" }), { target: { value: "a diver is down" } });
    fireEvent.click(within(box).getByRole("button", { name: "Shelve" }));
    await screen.findByText(/You shelved/);
    const body = posts()[0]?.[1] as { alarms: number[]; until: string; why: string };
    expect([body.alarms, body.why]).toEqual([[1, 2], "a diver is down"]);
    expect((Date.parse(body.until) - Date.now()) / 3_600_000).toBeCloseTo(8, 1);
    expect(screen.queryByRole("toolbar", { name: "Marked alarms" })).toBeNull();
  });

  it("are given to somebody, and noted", async () => {
    answer({
      "POST /api/v1/alarms/assign": { alarms: [alarm(1)], refused: [] },
      "POST /api/v1/alarms/note": { alarms: [alarm(1)], refused: [] },
    });
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "i" });
    await screen.findByRole("option", { name: "Jory Teal" });
    const who = screen.getByRole("combobox", { name: "Who sees to it" });
    fireEvent.change(who, { target: { value: "jory" } });
    fireEvent.click(screen.getByRole("button", { name: "Assign" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    fireEvent.keyDown(window, { key: "n" });
    fireEvent.change(await screen.findByRole("textbox", { name: "What was it?" }), { target: { value: "weed" } });
    fireEvent.click(screen.getByRole("button", { name: "Add the note" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(posts()).toEqual([
      ["alarms/assign", { alarms: [1], person: "jory" }],
      ["alarms/note", { alarms: [1], note: "weed" }],
    ]);
  });

  it("open with what to do, what happened, and what it was before", async () => {
    answer({
      "GET /api/v1/alarms/1/sheet": {
        alarm: alarm(1, {
          field: "", // nothing to draw
          shelved_until: "2026-03-03T09:00:00Z",
          shelved_by: "Maud Varn",
          shelved_why: "a diver",
        }),
        sentence: "Watches every raft buoy.",
        instruction: "Look at the *breaker*.",
        entries: [{ id: 1, what: "raised", at: "2026-03-02T09:10:00Z", who: null, note: "" }],
        earlier: [
          {
            alarm: alarm(9, { cleared_at: "2026-03-02T09:40:00Z", ...TAKEN }),
            notes: [{ id: 2, note: "the float sticks", who: "Maud Varn", at: "2026-03-02T09:20:00Z" }],
          },
        ],
        earlier_count: 1,
        shelves: 0,
      },
    });
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "Enter" });
    const sheet = await screen.findByRole("dialog");
    expect(await within(sheet).findByText("breaker")).toBeInTheDocument();
    expect(sheet).toHaveTextContent("shelved");
    expect(sheet).toHaveTextContent("It stood at 3.1 mg/L; the limit was 5 mg/L.");
    expect(sheet).toHaveTextContent("“the float sticks” Maud Varn");
    expect(sheet).toHaveTextContent("lasted 30 min, taken by Maud Varn");
  });

  it("are not taken while somebody types", async () => {
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "n" });
    fireEvent.keyDown(await screen.findByRole("textbox", { name: "What was it?" }), { key: "a" });
    expect(posts()).toEqual([]);
  });

  it("are not taken by a single key that is switched off", async () => {
    localStorage.setItem("oculum.single-keys", "off");
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "a" });
    expect(asked.every((a) => a.method === "GET")).toBe(true);
    localStorage.removeItem("oculum.single-keys");
  });

  it("offer a viewer nothing to act with", async () => {
    show(<Alarms />, "/alarms", "viewer");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    expect(screen.queryByRole("button", { name: "Acknowledge" })).toBeNull();
    expect(screen.getAllByText("nobody has it")).toHaveLength(2);
  });

  it("ask why in the URL", async () => {
    show(<Alarms />, "/alarms?span=3600");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "w" });
    expect(screen.getByText("/alarms?span=3600&why=alarm%3A1")).toBeInTheDocument();
  });

  it("that are none say what to do next", async () => {
    answer({ "GET /api/v1/alarms/lines": lines([]) });
    show(<Alarms />, "/alarms");
    expect(await screen.findByText("No alarm is open.")).toBeInTheDocument();
  });

  it("tell a failure in the server's words", async () => {
    answer({ "GET /api/v1/alarms/lines": [400, { code: "invalid", detail: "`from` must lie before `to`" }] });
    show(<Alarms />, "/alarms");
    expect(await screen.findByText("`from` must lie before `to`")).toBeInTheDocument();
  });
});

describe("devices", () => {
  beforeEach(() => {
    answer({
      "GET /api/v1/devices": {
        count: 2,
        states: { reporting: 1, silent: 1 },
        units: {},
        results: [device("buoy-02", { state: "silent" }), device("buoy-01")],
      },
      "GET /api/v1/types": { count: 0, results: [] },
      "GET /api/v1/sites": { count: 0, results: [] },
      "GET /api/v1/selections": [
        { name: "quiet ones", query: { state: "silent" }, columns: ["value:level"], by: "Maud", saved_at: "" },
      ],
    });
  });
  afterEach(() => localStorage.clear());

  it("are filtered as they were kept under a name, with their columns", async () => {
    show(<Devices />, "/devices");
    fireEvent.click(await screen.findByRole("button", { name: "quiet ones" }));
    expect(screen.getByText("/devices?state=silent")).toBeInTheDocument();
    await waitFor(() =>
      expect(asked.some((a) => a.url.searchParams.getAll("column").includes("value:level"))).toBe(true),
    );
    expect(await screen.findByRole("columnheader", { name: "Level" })).toBeInTheDocument();
    fireEvent.click(screen.getByRole("button", { name: "Level" }));
    expect(screen.getByRole("columnheader", { name: "Level" })).toHaveAttribute("aria-sort", "ascending");
    fireEvent.click(screen.getByRole("button", { name: "Level" }));
    await waitFor(() => expect(asked.some((a) => a.url.searchParams.get("order") === "-value:level")).toBe(true));
  });

  it("show their states in words and shapes, and filter in the URL", async () => {
    show(<Devices />, "/devices");
    const list = await screen.findByRole("grid", { name: "Devices" });
    expect(within(list).getByRole("img", { name: "silent" })).toBeInTheDocument();
    expect(
      within(list).getAllByRole("img", { name: "9 messages; 1 of 3 intervals without one".replace("9", "6") }),
    ).toHaveLength(2);
    fireEvent.click(screen.getByRole("button", { name: /silent 1/ }));
    expect(screen.getByText("/devices?state=silent")).toBeInTheDocument();
    await waitFor(() => expect(asked.some((a) => a.url.searchParams.get("state") === "silent")).toBe(true));
  });

  it("open with Enter, the lookback kept", async () => {
    show(<Devices />, "/devices?span=604800");
    await screen.findByRole("grid", { name: "Devices" });
    fireEvent.keyDown(window, { key: "ArrowDown" });
    fireEvent.keyDown(window, { key: "Enter" });
    expect(screen.getByText("/devices/buoy-01?span=604800")).toBeInTheDocument();
  });

  it("ask for a past moment when the lookback stands there", async () => {
    show(<Devices />, "/devices?to=2026-03-02T09:10:00Z");
    await screen.findByRole("grid", { name: "Devices" });
    const list = asked.find((a) => a.url.pathname === "/api/v1/devices");
    expect(list?.url.searchParams.get("to")).toBe("2026-03-02T09:10:00.000Z");
    expect(list?.url.searchParams.get("from")).toBe("2026-03-01T09:10:00.000Z");
  });

  it("that are none offer the next step of the job to an engineer", async () => {
    answer({ "GET /api/v1/devices": { count: 0, states: {}, units: {}, results: [] }, "GET /api/v1/selections": [] });
    show(<Devices />, "/devices", "engineer");
    expect(await screen.findByText("No device yet.")).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "Add a device" })).toHaveAttribute("href", "/devices/add");
  });
});

describe("signing in", () => {
  it("says why it was refused", async () => {
    answer({
      "POST /api/v1/sign-in": [403, { code: "sign-in", detail: "name and password do not go together" }],
    });
    show(<SignIn />);
    fireEvent.change(screen.getByLabelText("name"), { target: { value: "maud" } });
    fireEvent.change(screen.getByLabelText("password"), { target: { value: "wrong" } });
    fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("name and password do not go together");
    expect(asked[0]?.body).toEqual({ username: "maud", password: "wrong" });
  });
});

describe("the palette", () => {
  it("goes where the arrows stand", async () => {
    answer({
      "GET /api/v1/devices": { count: 1, states: {}, results: [device("buoy-31")] },
      "GET /api/v1/definitions": { count: 0, results: [] },
      "GET /api/v1/types": { count: 0, results: [] },
      "GET /api/v1/sites": { count: 0, results: [] },
    });
    const go = vi.fn();
    show(<Palette open onOpenChange={() => undefined} go={go} />, "/?span=3600");
    const input = screen.getByRole("combobox");
    fireEvent.change(input, { target: { value: "buoy" } });
    expect(await screen.findByRole("option", { name: /buoy-31/ })).toBeInTheDocument();
    fireEvent.keyDown(input, { key: "Enter" });
    expect(go).toHaveBeenCalledWith("/devices/buoy-31?span=3600");
  });
});
