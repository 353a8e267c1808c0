import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { useState } from "react";
import { Again } from "../places/definitions/again";
import { Cases, expected } from "../places/definitions/cases";
import { useDraft } from "../places/definitions/draft";
import { DefinitionHead } from "../places/definitions/head";
import { Overtaken } from "../places/definitions/overtaken";
import { parsed } from "../places/definitions/selection";
import { Versions } from "../places/definitions/versions";
import { answer, asked, sent, serve, show } from "./server";

vi.mock("uplot", () => ({ default: class {} }));
serve();

const ONE = "/api/v1/definitions/4";
const press = (name: string | RegExp) => fireEvent.click(screen.getByRole("button", { name }));
const definition = (more: object = {}) => ({
  id: 4,
  kind: "decoder",
  name: "pod",
  type: "pod",
  draft: "decoder pod for bytes\n",
  draft_number: 5,
  last_number: 2,
  rolling_out: null,
  live: { number: 2, text: "decoder pod for bytes\n", why: "" },
  ...more,
});
const patches = () => asked.filter((a) => a.method === "PATCH" && a.url.pathname === ONE).map((a) => a.body);

/** The draft of a definition with a plain box for its text. */
function Desk() {
  const draft = useDraft(4);
  if (!draft.ready) return <p>waiting</p>;
  return (
    <>
      <DefinitionHead draft={draft} about="2 devices" />
      <textarea aria-label="Text" value={draft.text} onChange={(e) => draft.setText(e.target.value)} />
      <Overtaken draft={draft} />
    </>
  );
}

/** The desk, and a way to leave it and come back. */
function Screens() {
  const [there, setThere] = useState(true);
  return (
    <>
      <button type="button" onClick={() => setThere(!there)}>
        {there ? "Leave" : "Come back"}
      </button>
      {there && <Desk />}
    </>
  );
}

describe("a draft", () => {
  const theirs = { text: "decoder pod for bytes\n# theirs\n", draft_number: 8, version: null };
  const meanwhile = { code: "changed meanwhile", detail: "Jory Teal changed this draft meanwhile", theirs };
  beforeEach(() =>
    answer({
      [`GET ${ONE}`]: definition(),
      "POST /api/v1/check": { good: true, problems: [], type: "pod", lines: [], takes_away: [] },
      [`PATCH ${ONE}`]: definition({ draft_number: 6 }),
      [`GET ${ONE}/rollout`]: { number: null },
    }),
  );
  const write = (text: string) => fireEvent.change(screen.getByLabelText("Text"), { target: { value: text } });

  it("is saved when it has stood still, from the state that was seen", async () => {
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# a");
    write("decoder pod for bytes\n# ab");
    await waitFor(() => expect(patches()).toEqual([{ draft: "decoder pod for bytes\n# ab", draft_number: 5 }]));
    write("decoder pod for bytes\n# abc");
    await waitFor(() => expect(patches()).toHaveLength(2));
    expect(patches()[1]).toEqual({ draft: "decoder pod for bytes\n# abc", draft_number: 6 });
  });

  it("that was only looked at is not saved", async () => {
    answer({ [`GET ${ONE}`]: definition({ draft: "" }) });
    show(<Screens />, "/", "engineer");
    await screen.findByLabelText("Text");
    expect(await screen.findByRole("button", { name: "Version 2 is in force" })).toBeDisabled();
    press("Leave");
    expect(patches()).toEqual([]);
  });

  it("is saved when its screen is left, and there on coming back", async () => {
    answer({ [`PATCH ${ONE}`]: definition({ draft: "decoder pod for bytes\n# quick", draft_number: 6 }) });
    show(<Screens />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# quick");
    press("Leave");
    await waitFor(() => expect(patches()).toEqual([{ draft: "decoder pod for bytes\n# quick", draft_number: 5 }]));
    press("Come back");
    expect(await screen.findByLabelText("Text")).toHaveValue("decoder pod for bytes\n# quick");
  });

  it("that cannot be saved says so, and is tried again by itself", async () => {
    answer({ [`PATCH ${ONE}`]: [503, { code: "database", detail: "the database does not answer just now" }] });
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# a");
    expect(await screen.findByText("Not saved yet: the database does not answer just now")).toBeInTheDocument();
    const tried = patches().length;
    expect(tried).toBeLessThan(3); // not as fast as the server says no
    answer({ [`PATCH ${ONE}`]: definition({ draft_number: 6 }) });
    await waitFor(() => expect(screen.queryByText(/^Not saved yet/)).toBeNull(), { timeout: 4000 });
    expect(patches().length).toBeGreaterThan(tried);
  });

  it("that is refused for what it is, is not sent again and again", async () => {
    answer({ [`PATCH ${ONE}`]: [400, { code: "invalid", detail: "draft: at most 60000 characters" }] });
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# long");
    expect(await screen.findByText("Not saved yet: draft: at most 60000 characters")).toBeInTheDocument();
    expect(patches()).toHaveLength(1);
    answer({ [`PATCH ${ONE}`]: definition({ draft_number: 6 }) });
    write("decoder pod for bytes\n# lon");
    await waitFor(() => expect(screen.queryByText(/^Not saved yet/)).toBeNull());
    expect(patches()).toHaveLength(2);
  });

  it("that somebody changed meanwhile is kept by choice, over theirs", async () => {
    answer({ [`PATCH ${ONE}`]: [409, meanwhile] });
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# mine\n");
    const choice = await screen.findByRole("region", { name: "Changed meanwhile" });
    expect(choice).toHaveTextContent("Jory Teal changed this draft meanwhile");
    expect(screen.getByRole("button", { name: "Publish waits for your choice" })).toBeDisabled();
    answer({ [`PATCH ${ONE}`]: definition({ draft_number: 9 }) });
    press("Keep mine");
    await waitFor(() => expect(patches()).toHaveLength(2));
    expect(patches()[1]).toEqual({ draft: "decoder pod for bytes\n# mine\n", draft_number: 8 });
  });

  it("that somebody changed meanwhile gives way by choice", async () => {
    answer({ [`PATCH ${ONE}`]: [409, meanwhile] });
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    write("decoder pod for bytes\n# mine\n");
    await screen.findByRole("region", { name: "Changed meanwhile" });
    press("Take theirs");
    expect(screen.getByLabelText("Text")).toHaveValue(theirs.text);
    expect(screen.queryByRole("region", { name: "Changed meanwhile" })).toBeNull();
    expect(patches()).toHaveLength(1);
  });

  it("whose answer was lost is not somebody else's", async () => {
    const own = { ...meanwhile, theirs: { ...theirs, text: "decoder pod for bytes\n# mine\n" } };
    answer({ [`PATCH ${ONE}`]: [409, own] });
    show(<Desk />, "/", "engineer");
    await screen.findByLabelText("Text");
    answer({ [`GET ${ONE}`]: definition({ draft: own.theirs.text, draft_number: 8 }) });
    write("decoder pod for bytes\n# mine\n");
    await waitFor(() => expect(asked.filter((a) => a.method === "GET" && a.url.pathname === ONE)).toHaveLength(2));
    expect(screen.queryByRole("region", { name: "Changed meanwhile" })).toBeNull();
  });

  it("is published from the version that it was begun on, and why stays with it", async () => {
    answer({
      [`GET ${ONE}`]: definition({ draft: "decoder pod for bytes\n# new\n" }),
      [`GET ${ONE}/effect`]: { devices: 2, routes: 1, conditions: 1, open_alarms: 0 },
      [`POST ${ONE}/publish`]: [409, { code: "cases fail", detail: "1 case fails: `an ordinary one`" }],
    });
    show(<Desk />, "/", "engineer");
    fireEvent.click(await screen.findByRole("button", { name: "Publish version 3" }));
    expect(await screen.findByText(/It touches/)).toHaveTextContent(
      "It touches 2 devices, 1 route in force, 1 condition in force and 0 open alarms.",
    );
    fireEvent.change(screen.getByLabelText(/^why/), { target: { value: "a new sheet" } });
    press("Publish");
    fireEvent.click(await screen.findByRole("button", { name: "Publish although they fail" }));
    await waitFor(() => expect(asked.filter((a) => a.url.pathname === `${ONE}/publish`)).toHaveLength(2));
    expect(sent("POST", `${ONE}/publish`)).toEqual({
      text: "decoder pod for bytes\n# new\n",
      why: "a new sheet",
      despite_cases: true,
      first: null,
      base: 2,
      draft_number: 5,
    });
  });

  it("is published by nobody who may not", async () => {
    answer({ [`GET ${ONE}`]: definition({ draft: "decoder pod for bytes\n# new\n" }) });
    show(<Desk />);
    await screen.findByLabelText("Text");
    expect(screen.queryByRole("button", { name: /Publish/ })).toBeNull();
  });
});

describe("labels as they are written", () => {
  it.each([
    ["", {}],
    ["stage=growing, row = 2", { stage: "growing", row: "2" }],
    ["growing", null],
    ["a=", null],
    ["a=b=c", null],
  ])("%j", (text, labels) => expect(parsed(text)).toEqual(labels));
});

describe("versions", () => {
  it("tell what each changed, and go back to one", async () => {
    const version = (number: number, text: string) => ({
      id: number,
      number,
      text,
      who: "ines",
      at: "2026-03-02T09:10:00Z",
      why: `why ${number}`,
    });
    answer({ [`GET ${ONE}/versions`]: { count: 2, results: [version(2, "a\nb\n"), version(1, "a\nc\n")] } });
    const back = vi.fn();
    show(<Versions id={4} live={2} use={() => undefined} inForce={back} />, "/", "engineer");
    press("Versions");
    expect(await screen.findByText("Version 2")).toBeInTheDocument();
    expect(screen.getAllByLabelText("Differences")[0]).toHaveTextContent("a- c+ b");
    press("put version 1 in force again");
    expect(back).toHaveBeenCalledWith(1);
  });
});

describe("decoding again", () => {
  const job = (more: object) => ({
    id: 9,
    state: "running",
    total: 4000,
    done: 1500,
    decoded: 1400,
    behind: 0,
    reason: "",
    ...more,
  });
  const path = "/api/v1/types/pod/decode-again";
  beforeEach(() => answer({ "GET /api/v1/arrivals": { more: false, results: [{}] } }));

  it("tells how far it is and what waits behind it, and is paused and cancelled", async () => {
    answer({ [`GET ${path}`]: job({ behind: 2 }), [`PATCH ${path}`]: job({}), [`DELETE ${path}`]: [204, null] });
    show(<Again type="pod" live />, "/", "engineer");
    expect(await screen.findByText(/1,500 of 4,000/)).toHaveTextContent("2 more jobs behind it");
    press("pause");
    await waitFor(() => expect(sent("PATCH", path)).toEqual({ state: "paused" }));
    press("cancel");
    await waitFor(() => expect(asked.some((a) => a.method === "DELETE")).toBe(true));
  });

  it("says how it ended, and begins with a span", async () => {
    answer({ [`GET ${path}`]: job({ state: "failed", reason: "the decoder was retired" }), [`POST ${path}`]: job({}) });
    show(<Again type="pod" live />, "/", "engineer");
    expect(await screen.findByText(/decoded/)).toHaveTextContent(
      "1,400 of 1,500 decoded before it failed: the decoder was retired",
    );
    fireEvent.change(screen.getByLabelText("Which messages to decode again"), { target: { value: "7" } });
    press("Decode them again");
    await waitFor(() => expect(sent("POST", path)).toBeTruthy());
    const { start, end } = sent("POST", path) as { start: string; end: string };
    expect(Date.parse(end) - Date.parse(start)).toBe(7 * 86_400_000);
  });

  it("has nothing to do where none is refused, and is not offered to an operator", async () => {
    answer({ "GET /api/v1/arrivals": { more: false, results: [] }, [`GET ${path}`]: job({ id: 0, state: "done" }) });
    show(<Again type="pod" live />, "/", "engineer");
    expect(await screen.findByRole("button", { name: "None is refused" })).toBeDisabled();
    show(<Again type="pod" live />);
    expect(screen.getAllByRole("button", { name: "None is refused" })).toHaveLength(1);
  });
});

describe("cases", () => {
  const decoded = {
    received_at: "2026-03-02T09:10:00.500000Z",
    error: null,
    values: [
      {
        field: "level",
        kind: "number",
        value: 3.5,
        text: null,
        unit: "m",
        missing: null,
        at: "2026-03-02T09:10:00.500000Z",
        device: null,
      },
      {
        field: "open",
        kind: "flag",
        value: 1,
        text: null,
        unit: null,
        missing: null,
        at: "2026-03-02T09:10:00Z",
        device: "pod-2",
      },
      {
        field: "big",
        kind: "integer",
        value: 1.8e19,
        text: "18446744073709551615",
        unit: "1",
        missing: null,
        at: "2026-03-02T09:10:00Z",
        device: null,
      },
      {
        field: "temp",
        kind: "number",
        value: null,
        text: null,
        unit: "Cel",
        missing: "open",
        at: "2026-03-02T09:10:00Z",
        device: null,
      },
    ],
  } as never;
  const kept = (id: number, name: string) => ({
    id,
    name,
    payload_hex: "0a0b",
    received_at: "2026-03-02T09:10:00Z",
    headers: {},
    constants: {},
    previous_hex: null,
    expect: {
      readings: [
        { field: "level", value: 3.5, unit: "m", at: "2026-03-02T09:10:00Z" },
        { field: "open", value: true, at: "2026-03-02T09:10:00Z" },
      ],
    },
  });
  const draft = { ready: true, sound: true, settled: "decoder", check: { data: { needs_before: false } } } as never;
  const sample = { hex: "0a0b", beside: {}, setPasted: vi.fn() };
  beforeEach(() =>
    answer({
      [`GET ${ONE}/cases`]: { count: 2, results: [kept(1, "an ordinary one"), kept(2, "a storm")] },
      [`POST ${ONE}/cases/run`]: {
        failing: 1,
        cases: [
          { id: 1, passed: true, differences: [], gives: {} },
          { id: 2, passed: false, differences: ["level: expected 3.5 m, is 7 m"], gives: { readings: [] } },
        ],
      },
      [`POST ${ONE}/cases`]: [201, {}],
      [`PATCH ${ONE}/cases/2`]: {},
      [`DELETE ${ONE}/cases/1`]: [204, null],
    }),
  );
  const open = async (role = "engineer") => {
    show(<Cases id={4} draft={draft} sample={sample} decoded={decoded} settled />, "/", role);
    await screen.findByText(/1 of 2 fail/);
  };

  it("expect what a message says, whole numbers with all digits", () => {
    expect(expected(decoded)).toEqual({
      readings: [
        { field: "level", value: 3.5, unit: "m", at: "2026-03-02T09:10:00.5Z" },
        { field: "open", value: true, unit: null, at: "2026-03-02T09:10:00Z", device: "pod-2" },
        { field: "big", value: "18446744073709551615", unit: "1", at: "2026-03-02T09:10:00Z" },
        { field: "temp", value: null, unit: "Cel", at: "2026-03-02T09:10:00Z", missing: "open" },
      ],
    });
    expect(expected({ error: { code: "checksum" } } as never)).toEqual({ error: "checksum" });
  });

  it("tell which fail and in what, and take over what comes out now", async () => {
    await open();
    expect(screen.getByText("level: expected 3.5 m, is 7 m")).toBeInTheDocument();
    press("expect what it gives now");
    await waitFor(() => expect(sent("PATCH", `${ONE}/cases/2`)).toEqual({ expect: { readings: [] } }));
    press("a storm");
    expect(sample.setPasted).toHaveBeenCalledWith("0a 0b", expect.objectContaining({ name: "a storm" }));
  });

  it("are kept under a name", async () => {
    await open();
    expect(screen.getByRole("button", { name: "Keep it as a case" })).toBeDisabled();
    fireEvent.change(screen.getByLabelText("Name of the case"), { target: { value: " low tide " } });
    press("Keep it as a case");
    await waitFor(() => expect(sent("POST", `${ONE}/cases`)).toMatchObject({ name: "low tide", payload_hex: "0a0b" }));
  });

  it("have their values changed in place, each as what it is", async () => {
    await open();
    fireEvent.click(screen.getAllByRole("button", { name: "what it expects" })[1] as HTMLElement);
    const list = screen.getByRole("list", { name: "Expected readings" });
    const set = (name: string, value: string) => {
      const box = within(list).getByLabelText(`${name} expected`);
      fireEvent.change(box, { target: { value } });
      fireEvent.blur(box);
    };
    set("level", "4");
    await waitFor(() =>
      expect(sent("PATCH", `${ONE}/cases/2`)).toMatchObject({ expect: { readings: [{ value: 4 }, {}] } }),
    );
    set("open", "no");
    await waitFor(() =>
      expect(sent("PATCH", `${ONE}/cases/2`)).toMatchObject({ expect: { readings: [{}, { value: false }] } }),
    );
  });

  it("are only looked at by an operator", async () => {
    await open("operator");
    expect(screen.queryByRole("button", { name: "remove" })).toBeNull();
    expect(screen.queryByLabelText("Name of the case")).toBeNull();
  });
});
