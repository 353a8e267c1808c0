import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import Arrivals from "../places/arrivals";
import { Constants } from "../places/devices/constants";
import { DeviceForm } from "../places/devices/form";
import { putAway } from "../places/devices/held-keys";
import { KeyBox } from "../places/devices/key-box";
import Types from "../places/devices/types";
import People from "../places/people";
import Settings from "../places/settings";
import { answer, asked, sent, serve, show } from "./server";

vi.mock("uplot", () => ({ default: class {} }));
serve();

const page = (results: unknown[]) => ({ count: results.length, results });
const write = (label: string | RegExp, value: string) =>
  fireEvent.change(screen.getByLabelText(label), { target: { value } });
const press = (name: string | RegExp) => fireEvent.click(screen.getByRole("button", { name }));

const pod = (more: object = {}) => ({
  key: "pod",
  title: "Pod",
  cadence_s: 60,
  is_gateway: false,
  devices: 2,
  decoder: 7,
  revision: 3,
  fields: [
    { name: "level", kind: "number", unit: "m" },
    { name: "open", kind: "flag", unit: null },
  ],
  setpoints: [{ name: "level_max", unit: "m", value: 5 }],
  ...more,
});
const made = {
  key: "ocd_abc_secret",
  username: "pod-9",
  topic: "up/pod-9",
  mosquitto_pub: "mosquitto_pub ...",
  curl: "curl ...",
  broker_ready: true,
};

describe("a device's registration", () => {
  beforeEach(() => answer({ "GET /api/v1/types": page([pod()]), "GET /api/v1/sites": page([]) }));

  it("is sent as it was written", async () => {
    const submit = vi.fn();
    show(<DeviceForm submit="Add it" pending={false} onSubmit={submit} name="Pod 9!" />);
    await screen.findByRole("option", { name: "Pod" });
    expect(screen.getByLabelText(/^name/)).toHaveValue("pod-9");
    write(/^name/, "pod-9");
    write(/^labels/, "stage=growing, row=2 note=a=b");
    write(/^latitude/, "37,5");
    expect(screen.getByText(/write 37.5, with a point/)).toBeInTheDocument();
    write(/^latitude/, "37.5");
    expect(screen.getByRole("button", { name: "Add it" })).toBeDisabled();
    write(/^longitude/, "-42.6");
    write(/^reports every/, "1.5 min");
    press("Add it");
    expect(submit).toHaveBeenCalledWith(
      {
        name: "pod-9",
        title: "pod-9",
        type: "pod",
        site: null,
        gateway: null,
        latitude: 37.5,
        longitude: -42.6,
        cadence_s: 90,
        phase: "in service",
        labels: { stage: "growing", row: "2", note: "a=b" },
      },
      0,
    );
  });

  it("says which word is no label, and drops none", async () => {
    const submit = vi.fn();
    show(<DeviceForm submit="Add it" pending={false} onSubmit={submit} name="pod-9" />);
    await screen.findByRole("option", { name: "Pod" });
    for (const odd of ["growing", "=2", "row="]) {
      write(/^labels/, `stage=growing ${odd}`);
      expect(screen.getByText(`\`${odd}\` is no label: write name=value`)).toBeInTheDocument();
      expect(screen.getByRole("button", { name: "Add it" })).toBeDisabled();
    }
    write(/^labels/, "stage=growing");
    expect(screen.getByRole("button", { name: "Add it" })).toBeEnabled();
  });
});

describe("a device type", () => {
  const types = (
    <Routes>
      <Route path="/devices/types/:key" element={<Types />} />
    </Routes>
  );
  const open = async () => {
    show(types, "/devices/types/pod", "engineer");
    await screen.findByDisplayValue("Pod");
  };
  const matched = () => asked.findLast((a) => a.method === "PATCH")?.headers.get("If-Match");

  it("is saved from the state that was seen", async () => {
    answer({ "GET /api/v1/types": page([pod()]), "PATCH /api/v1/types/pod": pod({ title: "Tide pod", revision: 4 }) });
    await open();
    write("title", "Tide pod");
    write("default", "6.5");
    press("Save the type");
    expect(await screen.findByText("Saved.")).toBeInTheDocument();
    expect(matched()).toBe('"3"');
    expect(sent("PATCH", "/api/v1/types/pod")).toMatchObject({
      title: "Tide pod",
      fields: [
        { name: "level", unit: "m" },
        { name: "open", kind: "flag", unit: null },
      ],
      setpoints: [{ name: "level_max", unit: "m", value: 6.5 }],
    });
  });

  it("that somebody changed meanwhile is theirs, or kept on purpose", async () => {
    const late = { code: "changed meanwhile", detail: "pod was changed meanwhile by jory, just now; look at it again" };
    answer({ "GET /api/v1/types": page([pod()]), "PATCH /api/v1/types/pod": [412, late] });
    await open();
    write("title", "Mine");
    answer({ "GET /api/v1/types/pod": pod({ title: "Theirs", revision: 4 }) });
    press("Save the type");
    expect(await screen.findByRole("alert")).toHaveTextContent("changed meanwhile by jory");
    answer({ "GET /api/v1/types": page([pod({ title: "Theirs", revision: 4 })]) });
    press("Take theirs");
    expect(await screen.findByDisplayValue("Theirs")).toBeInTheDocument();
    answer({ "PATCH /api/v1/types/pod": pod({ title: "Mine after all", revision: 5 }) });
    write("title", "Mine after all");
    press("Save the type");
    expect(await screen.findByText("Saved.")).toBeInTheDocument();
    expect(matched()).toBe('"4"');
  });

  it("is only looked at by an operator", async () => {
    answer({ "GET /api/v1/types": page([pod()]) });
    show(types, "/devices/types/pod");
    expect(await screen.findByDisplayValue("Pod")).toBeDisabled();
    expect(screen.queryByRole("button", { name: "Save the type" })).toBeNull();
  });
});

describe("a key", () => {
  beforeEach(() => putAway("pod-9"));

  it("is replaced only when that is confirmed, and shown with its commands", async () => {
    answer({ "POST /api/v1/devices/pod-9/key": made });
    show(<KeyBox name="pod-9" hasKey gateway={null} />);
    press("Give a new key");
    expect(asked).toHaveLength(0);
    fireEvent.blur(screen.getByRole("button", { name: "Give a new key: press again" })); // it was a slip
    press("Give a new key");
    expect(asked).toHaveLength(0);
    press("Give a new key: press again");
    expect(await screen.findByText("ocd_abc_secret")).toBeInTheDocument();
    expect(screen.getByText(/shown this once/)).toBeInTheDocument();
  });
  it("says who speaks where there is none", () => {
    show(<KeyBox name="pod-9" hasKey={false} gateway="gate-1" />);
    expect(screen.getByText("It has no key of its own; gate-1 speaks for it.")).toBeInTheDocument();
  });
});

describe("constants of a device", () => {
  it.each([
    ["0.5", 0.5],
    ["-1e3", -1000],
    ["true", true],
    ["1e999", "1e999"],
    ["blue", "blue"],
  ])("take %s as a value", async (text, value) => {
    answer({ "GET /api/v1/devices/pod-1/constants": [200, []], "POST /api/v1/devices/pod-1/constants": [201, {}] });
    show(<Constants name="pod-1" engineer />);
    fireEvent.click(await screen.findByRole("button", { name: "add one" }));
    write(/^name/, " step ");
    write("value", text);
    press("Keep the constant");
    await waitFor(() => expect(sent("POST", "/api/v1/devices/pod-1/constants")).toEqual({ name: "step", value }));
  });
});

describe("arrivals", () => {
  const arrival = (id: string, more: object = {}) => ({
    id,
    received_at: "2026-03-02T09:10:00Z",
    device: "pod-1",
    device_title: "Pod 1",
    unknown: null,
    type: "pod",
    size: 2,
    hex: "0a0b",
    text: null,
    outcome: "decoded",
    reason: null,
    line: null,
    byte: null,
    channel: "MQTT",
    via: null,
    topic: "up/pod-1",
    ...more,
  });
  const odd = { outcome: "refused", reason: "odd mark", line: 4, byte: 1, device_title: "Pod 2" };
  beforeEach(() =>
    answer({
      "GET /api/v1/arrivals": { more: true, results: [arrival("12"), arrival("11", odd)] },
      "GET /api/v1/arrivals/12": arrival("12"),
      "GET /api/v1/arrivals/11": arrival("11", odd),
      "GET /api/v1/types": page([pod()]),
      "GET /api/v1/sites": page([]),
      "GET /api/v1/unknown-senders": page([{ id: 3, name: "pod-9", through: "gate-1", messages: 1, turned_away: 4 }]),
      "GET /api/v1/refusals": [
        200,
        [{ device: "Pod 1", reason: "published to a topic that is not its own", count: 7 }],
      ],
      "GET /api/v1/onboarding": [200, []],
    }),
  );

  it("are walked by keys, which holds them still, and tell why one was refused", async () => {
    show(<Arrivals />, "/arrivals");
    await screen.findByText("Pod 2");
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(await screen.findByText("refused: odd mark (line 4, byte 1)")).toBeInTheDocument();
    expect(screen.getByText("/arrivals?message=11")).toBeInTheDocument();
    expect(screen.getByText("Held still; new arrivals are not shown.")).toBeInTheDocument();
    fireEvent.keyDown(window, { key: "p" });
    await waitFor(() => expect(screen.queryByText(/^Held still/)).toBeNull());
  });

  it("tell what was turned away, and how often", async () => {
    show(<Arrivals />, "/arrivals");
    expect(await screen.findByText(/published to a topic that is not its own/)).toHaveTextContent("7");
    expect(screen.getByText("through gate-1, 1 message, 4 turned away")).toBeInTheDocument();
    expect(screen.queryByRole("button", { name: "Adopt as a device" })).toBeNull();
  });

  it("of an unknown sender make a device of it", async () => {
    answer({ "POST /api/v1/unknown-senders/3/adopt": [201, made] });
    show(<Arrivals />, "/arrivals", "engineer");
    fireEvent.click(await screen.findByRole("button", { name: "Adopt as a device" }));
    await waitFor(() => expect(screen.getAllByRole("option", { name: "Pod" }).length).toBeGreaterThan(1));
    press("Adopt");
    expect(await screen.findByText("ocd_abc_secret")).toBeInTheDocument();
    expect(sent("POST", "/api/v1/unknown-senders/3/adopt")).toMatchObject({ name: "pod-9", type: "pod" });
  });

  it("that are none tell the next step", async () => {
    answer({ "GET /api/v1/arrivals": { more: false, results: [] } });
    show(<Arrivals />, "/arrivals?outcome=refused", "viewer");
    expect(await screen.findByText("Nothing arrived here.")).toBeInTheDocument();
    expect(screen.getByText("Other outcomes may hold what you look for.")).toBeInTheDocument();
    expect(asked.find((a) => a.url.pathname === "/api/v1/arrivals")?.url.searchParams.get("outcome")).toBe("refused");
  });
});

describe("people", () => {
  const person = (id: number, username: string, more: object = {}) => ({
    id,
    username,
    name: username,
    role: "viewer",
    is_active: true,
    ...more,
  });
  beforeEach(() =>
    answer({
      "GET /api/v1/people": page([person(1, "maud", { role: "admin" }), person(2, "jory")]),
      "GET /api/v1/record": page([
        { id: 9, at: "2026-03-02T09:10:00Z", who: "maud", what: "added person", about: "jory" },
      ]),
      "PATCH /api/v1/people/2": person(2, "jory"),
      "POST /api/v1/people": [201, person(3, "nell")],
    }),
  );

  it("get roles and are locked out, oneself not", async () => {
    show(<People />, "/people", "admin");
    expect(await screen.findByLabelText("role of maud")).toBeDisabled();
    fireEvent.change(screen.getByLabelText("role of jory"), { target: { value: "engineer" } });
    await waitFor(() => expect(sent("PATCH", "/api/v1/people/2")).toEqual({ role: "engineer" }));
    press("lock out");
    await waitFor(() => expect(sent("PATCH", "/api/v1/people/2")).toEqual({ is_active: false }));
    expect(screen.getByText(/added person jory/)).toBeInTheDocument();
  });

  it("are added with a first password, and told why not", async () => {
    show(<People />, "/people", "admin");
    await screen.findByLabelText("role of jory");
    write("user name", "nell");
    write("name", "Nell Oake");
    write("role", "operator");
    write(/^first password/, "a few long words");
    press("Add");
    await waitFor(() =>
      expect(sent("POST", "/api/v1/people")).toEqual({
        username: "nell",
        name: "Nell Oake",
        role: "operator",
        password: "a few long words",
        is_active: true,
      }),
    );
    await waitFor(() => expect(screen.getByLabelText("user name")).toHaveValue(""));
    write("user name", "jory");
    write("name", "Jory");
    write(/^first password/, "a few long words");
    answer({ "POST /api/v1/people": [400, { code: "invalid", detail: "there is a person named `jory` already" }] });
    press("Add");
    expect(await screen.findByText("there is a person named `jory` already")).toBeInTheDocument();
  });
});

describe("tokens", () => {
  it("are made with a role of one's own at most, shown once and withdrawn", async () => {
    answer({
      "GET /api/v1/tokens": page([{ id: 4, name: "script", role: "viewer", prefix: "abc", used_at: null }]),
      "POST /api/v1/tokens": [201, { id: 5, name: "logger", role: "operator", key: "oct_new_secret" }],
      "DELETE /api/v1/tokens/4": [204, null],
    });
    show(<Settings />, "/settings");
    expect(await screen.findByText(/oct_abc…, used/)).toHaveTextContent("viewer, oct_abc…, used never");
    expect(
      within(screen.getByLabelText("role"))
        .getAllByRole("option")
        .map((o) => o.textContent),
    ).toEqual(["viewer", "operator"]);
    write("name of a new token", "logger");
    write("role", "operator");
    press("Make");
    expect(await screen.findByText("oct_new_secret")).toBeInTheDocument();
    expect(sent("POST", "/api/v1/tokens")).toEqual({ name: "logger", role: "operator" });
    press("withdraw");
    press("withdraw: press again");
    await waitFor(() => expect(asked.some((a) => a.method === "DELETE")).toBe(true));
  });
});
