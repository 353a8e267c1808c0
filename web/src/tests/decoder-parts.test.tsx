import { fireEvent, render, screen, within } from "@testing-library/react";
import type { Schemas } from "../api/client";
import { BitRow } from "../parts/bytes";
import { Curve } from "../parts/curve";
import { setZone } from "../parts/time";
import { kindOf, nameFrom, spotsByPath, Tree, written } from "../parts/tree";
import { Differences } from "../places/definitions/differences";
import { lineOf } from "../places/definitions/guess";
import { Values, Verdict } from "../places/definitions/values";

vi.mock("uplot", () => ({ default: class {} }));
setZone("UTC");

type Decoded = Schemas["DecodeOut"];
type Reading = Schemas["ReadingOut"];

const ARRIVED = "2026-03-02T09:00:00Z";
const reading = (field: string, value: unknown, more: Partial<Reading> = {}): Reading =>
  ({
    field,
    kind: "number",
    unit: "m",
    value,
    text: null,
    missing: null,
    at: ARRIVED,
    device: null,
    ...more,
  }) as Reading;
const decoded = (values: Reading[], more: Partial<Decoded> = {}): Decoded => ({
  values,
  marks: [],
  error: null,
  unread: 0,
  tail: 0,
  checked: false,
  untaken: [],
  parts: [],
  received_at: ARRIVED,
  document: null,
  ...more,
});
const mark = (line: number, field: string, turn = 0): Schemas["MarkOut"] => ({
  line,
  field,
  turn,
  places: [],
  raw: [turn + 7],
  paths: [],
  spots: [],
});

function show(found: Decoded, marks: Schemas["MarkOut"][] = [], curves?: Schemas["CurvesOut"]) {
  const setLine = vi.fn();
  render(
    <Values
      decoded={found}
      curves={curves}
      sender="box-1"
      marks={marks}
      tintOf={new Map(marks.map((m, i) => [m.line, i]))}
      line={null}
      setLine={setLine}
    />,
  );
  return setLine;
}

describe("what a message says", () => {
  it("has a value, its unit, its raw number and the course of the last messages", () => {
    const setLine = show(
      decoded([reading("level", 1.25), reading("temp", null, { missing: "not fitted" })]),
      [mark(3, "level")],
      {
        messages: 60,
        decoded: 60,
        fields: [{ field: "level", unit: "m", t: [0, 10, 20], v: [1, null, 1.5] }],
      },
    );
    const [level, temp] = screen.getAllByRole("listitem");
    expect(level).toHaveTextContent("level1.25 m7");
    expect(within(level as HTMLElement).getByRole("img", { name: "from 1 to 1.5" })).toBeInTheDocument();
    expect(temp).toHaveTextContent("missing: not fitted");
    expect(screen.getByRole("heading")).toHaveTextContent("its last 60 messages");
    fireEvent.mouseEnter(within(level as HTMLElement).getByRole("button"));
    expect(setLine).toHaveBeenCalledWith(3);
  });

  it("keeps a history together until it is opened, with the time of each", () => {
    const history = [1, 2, 3, 4, 5].map((n) => reading("strain", n, { at: `2026-03-02T0${n}:00:00Z` }));
    show(decoded([reading("battery", 4), ...history]));
    expect(screen.getAllByRole("listitem")).toHaveLength(2);
    const row = screen.getByRole("button", { name: /strain/ });
    expect(row).toHaveTextContent("1 to 5 m5 values");
    expect(row).toHaveAttribute("aria-expanded", "false");
    fireEvent.click(row);
    const each = screen.getAllByRole("button", { name: /strain/ });
    expect(each).toHaveLength(5);
    expect(each[2]).toHaveTextContent("3 m at 03:00");
    fireEvent.click(each[2] as HTMLElement);
    expect(screen.getAllByRole("listitem")).toHaveLength(2);
  });

  it("tells how many of a history are missing, and words by their last", () => {
    const some = [1, null, 3, null].map((n) => reading("strain", n, n === null ? { missing: "no sample" } : {}));
    const doors = [0, 1, 0, 1].map((n) => reading("door", n, { kind: "flag", unit: null }));
    show(decoded([...some, ...doors]));
    const [strain, door] = screen.getAllByRole("listitem");
    expect(strain).toHaveTextContent("1 to 3 m, 2 missing");
    expect(door).toHaveTextContent("yes 4 values");
    expect(within(door as HTMLElement).queryByRole("img")).toBeNull();
  });

  it("says when it was measured, and of which device where there are several", () => {
    show(
      decoded([
        reading("level", 1, { at: "2026-03-02T08:50:00Z", device: "box-1" }),
        reading("level", 2, { at: "2026-03-02T08:50:00Z", device: "box-2" }),
      ]),
      [],
      { messages: 2, decoded: 2, fields: [{ field: "level", unit: "m", t: [0, 1], v: [1, 2] }] },
    );
    expect(screen.getAllByRole("img")).toHaveLength(1);
    expect(screen.getByText(/Measured/)).toHaveTextContent("10 min before it arrived");
    expect(screen.getAllByRole("listitem").map((r) => r.textContent)).toEqual([
      expect.stringContaining("level of box-1"),
      expect.stringContaining("level of box-2"),
    ]);
  });
});

describe("the verdict", () => {
  const verdict = (found: Decoded | undefined, blocked = false) =>
    render(<Verdict decoded={found} error={null} blocked={blocked} setLine={vi.fn()} />);
  it("says what refused a message, and in which line", () => {
    verdict(decoded([], { error: { code: "checksum", message: "the check is wrong", line: 12, byte: null } }));
    expect(screen.getByRole("alert")).toHaveTextContent("Refused, checksum: the check is wrong line 12");
  });
  it("says that a check is right, and nothing where there is none", () => {
    const { unmount } = verdict(decoded([], { checked: true }));
    expect(screen.getByText("The check is right.")).toBeInTheDocument();
    unmount();
    expect(verdict(decoded([])).container).toBeEmptyDOMElement();
  });
  it("waits for the text", () => {
    verdict(undefined, true);
    expect(screen.getByText("Values wait until the text is right.")).toBeInTheDocument();
  });
});

describe("a document as a tree", () => {
  const document = {
    nav: { sog: 6.4, "odd key": "x" },
    list: [1, 2],
    id: "whole 12345678901234567890",
    raw: "bytes 0aff",
  };
  it("lights what a line reads, and offers the rest", () => {
    const pick = vi.fn();
    const line = vi.fn();
    const spots = spotsByPath([{ line: 4, field: "speed", spots: [["nav", "sog"]] }], new Map([[4, 0]]));
    render(<Tree document={document} spots={spots} line={4} onLine={line} onPick={pick} />);
    const rows = screen.getAllByRole("listitem");
    const speed = rows.find((r) => r.textContent.includes("sog"));
    expect(speed).toHaveTextContent("6.4speed");
    expect(speed).toHaveAttribute("data-lit");
    fireEvent.mouseEnter(speed as HTMLElement);
    expect(line).toHaveBeenCalledWith(4);
    expect(rows.map((r) => r.textContent).join("|")).toContain("id12345678901234567890");
    expect(rows.map((r) => r.textContent).join("|")).toContain("rawbytes 0aff");
    const id = rows.find((r) => r.textContent.startsWith("id"));
    fireEvent.click(within(id as HTMLElement).getByRole("button", { name: "read it" }));
    expect(pick).toHaveBeenCalledWith(["id"], "whole 12345678901234567890");
  });
  it("names kinds and places as the language writes them", () => {
    expect(
      [
        true,
        1.5,
        "2026-03-02T09:00:00Z",
        "bytes 0a",
        "whole 9007199254740993",
        "whole -9007199254740993",
        null,
        "x",
      ].map(kindOf),
    ).toEqual(["flag", "number", "time iso", "hex", "u64", "i64", "number", "text"]);
    expect(written(["nav", "odd key", 0])).toBe('nav."odd key"[0]');
    expect(nameFrom(["nav", "Speed over Ground"], new Set())).toBe("speed_over_ground");
    expect(nameFrom(["nav", "sog"], new Set(["sog"]))).not.toBe("sog");
  });
});

describe("bytes", () => {
  it("show the bits of what is lit", () => {
    const { container } = render(<BitRow hex="10ff" first={0} last={1} high={11} low={4} little={false} />);
    expect(container).toHaveTextContent("bytes 0 to 1");
    expect(container.textContent.replace(/\s/g, "")).toContain("0001000011111111");
  });
  it("make the line that reads them in a chosen way", () => {
    expect(lineOf({ storage: "u16", order: "little" }, 3, "salt")).toBe("  byte 3  salt  u16 little");
    expect(lineOf({ storage: "f32 low word first", order: "big" }, 3, "x")).toBe("  byte 3  x  f32 low word first");
  });
});

describe("a curve", () => {
  it("is told in words", () => {
    render(<Curve values={[2, 2, 2]} />);
    expect(screen.getByRole("img", { name: "always 2" })).toBeInTheDocument();
  });
  it("needs two values", () => {
    expect(render(<Curve values={[1, null]} />).container.querySelector("svg")).toBeNull();
  });
});

describe("differences of a trial", () => {
  it("stand field by field, with how many and how far", () => {
    const field: Schemas["TrialField"] = {
      field: "level",
      kind: "number",
      unit: "m",
      values: 100,
      missing: 3,
      differ: 40,
      state: "same",
      low: 0,
      high: 4,
      distribution: { low: -1, high: 1, middle: 0.5, counts: [1, 4, 35] },
    };
    render(<Differences fields={[field]} />);
    const table = screen.getByRole("table", { name: "Values that differ" });
    expect(within(table).getAllByRole("row")).toHaveLength(2);
    expect(table).toHaveTextContent("level");
    expect(table).toHaveTextContent("level401030.5 m");
  });
});
