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
  undo_until: null,
  notes: 0,
  message_id: "1",
  ...more,
});

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
  rhythm: [3, 0, 3],
  failing: [0, 0, 0],
  ...more,
});

describe("alarms", () => {
  beforeEach(() => {
    answer({
      "GET /api/v1/alarms": { count: 2, unacknowledged: 2, results: [alarm(1), alarm(2, { priority: "low" })] },
      "GET /api/v1/alarms/summary": [],
      "POST /api/v1/alarms/2/acknowledge": alarm(2, {
        acknowledged_at: "2026-03-02T09:20:00Z",
        acknowledged_by: "Maud Varn",
      }),
    });
  });

  it("are walked and taken by keys", async () => {
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    const list = screen.getByRole("grid", { name: "Alarms" });
    expect(within(list).getAllByRole("row")).toHaveLength(2);
    fireEvent.keyDown(window, { key: "ArrowDown" });
    fireEvent.keyDown(window, { key: "a" });
    await waitFor(() =>
      expect(asked.some((a) => a.method === "POST" && a.url.pathname === "/api/v1/alarms/2/acknowledge")).toBe(true),
    );
  });

  it("that arrive do not move the cursor: the chosen one is taken, and can be given back", async () => {
    const { client } = show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
    expect(screen.getByRole("row", { selected: true })).toHaveFocus();
    const taken = alarm(2, { acknowledged_at: "2026-03-02T09:20:00Z", acknowledged_by: "Maud Varn" });
    answer({
      "GET /api/v1/alarms": { count: 3, unacknowledged: 3, results: [alarm(3), alarm(1), alarm(2)] },
      "DELETE /api/v1/alarms/2/acknowledge": alarm(2),
    });
    await client.invalidateQueries();
    await screen.findByText("Buoy 03 has 3.1 mg/L");
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
    fireEvent.keyDown(window, { key: "a" });
    await screen.findByText(/You took/);
    expect(asked.filter((a) => a.method === "POST").map((a) => a.url.pathname)).toEqual([
      "/api/v1/alarms/2/acknowledge",
    ]);
    expect(taken.id).toBe(2);
    fireEvent.keyDown(window, { key: "z" });
    await waitFor(() => expect(screen.queryByText(/You took/)).toBeNull());
    expect(asked.findLast((a) => a.method === "DELETE")?.url.pathname).toBe("/api/v1/alarms/2/acknowledge");
  });

  it("that leave take the choice with them: no other is taken in their place", async () => {
    const { client } = show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    answer({ "GET /api/v1/alarms": { count: 1, unacknowledged: 1, results: [alarm(2)] } });
    await client.invalidateQueries();
    await waitFor(() => expect(screen.queryByText("Buoy 01 has 3.1 mg/L")).toBeNull());
    expect(screen.queryByRole("row", { selected: true })).toBeNull();
    fireEvent.keyDown(window, { key: "a" });
    expect(asked.every((a) => a.method === "GET")).toBe(true);
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(screen.getByRole("row", { selected: true })).toHaveTextContent("Buoy 02");
  });

  it("show what was noted, and how many notes there are", async () => {
    answer({
      "GET /api/v1/alarms": { count: 1, unacknowledged: 1, results: [alarm(1, { notes: 1 })] },
      "GET /api/v1/journal": {
        count: 1,
        results: [{ id: 1, note: "the float sticks", who: "Maud Varn", at: "2026-03-02T09:20:00Z" }],
      },
      "POST /api/v1/alarms/1/note": alarm(1, { notes: 2 }),
    });
    show(<Alarms />, "/alarms");
    fireEvent.click(await screen.findByRole("button", { name: "1 note" }));
    expect(await screen.findByText(/the float sticks/)).toBeInTheDocument();
    fireEvent.change(screen.getByRole("textbox", { name: "Note" }), { target: { value: "cleaned" } });
    fireEvent.click(screen.getByRole("button", { name: "Add the note" }));
    await waitFor(() => expect(screen.queryByRole("textbox", { name: "Note" })).toBeNull());
    expect(screen.getByRole("row")).toHaveFocus();
  });

  it("are not taken while somebody types", async () => {
    show(<Alarms />, "/alarms");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "n" });
    const note = await screen.findByRole("textbox", { name: "Note" });
    fireEvent.keyDown(note, { key: "a" });
    expect(asked.every((a) => a.method === "GET")).toBe(true);
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
    expect(screen.getAllByText("nobody")).toHaveLength(2);
  });

  it("ask why in the URL", async () => {
    show(<Alarms />, "/alarms?span=3600");
    await screen.findByText("Buoy 01 has 3.1 mg/L");
    fireEvent.keyDown(window, { key: "w" });
    expect(screen.getByText("/alarms?span=3600&why=alarm%3A1")).toBeInTheDocument();
  });

  it("that are none say what to do next", async () => {
    answer({ "GET /api/v1/alarms": { count: 0, unacknowledged: 0, results: [] } });
    show(<Alarms />, "/alarms");
    expect(await screen.findByText("No alarm is open.")).toBeInTheDocument();
  });

  it("tell a failure in the server's words", async () => {
    answer({ "GET /api/v1/alarms": [400, { code: "invalid", detail: "`from` must lie before `to`" }] });
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
        results: [device("buoy-02", { state: "silent" }), device("buoy-01")],
      },
      "GET /api/v1/types": { count: 0, results: [] },
      "GET /api/v1/sites": { count: 0, results: [] },
    });
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
    answer({ "GET /api/v1/devices": { count: 0, states: {}, results: [] } });
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
