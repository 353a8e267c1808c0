import { render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { shown, Trouble } from "../parts/basics";
import { HexRow } from "../parts/bytes";
import { withGaps } from "../parts/chart";
import { fixed } from "../parts/editor";
import { spanWord, useKept, useLookback } from "../parts/lookback-state";
import { PriorityMark, StateMark } from "../parts/marks";
import { exact, lasting, setZone, when, zoneWord } from "../parts/time";
import { unitOf } from "../parts/units";

vi.mock("uplot", () => ({ default: { paths: {} } }));

describe("values", () => {
  it("are told in words and digits", () => {
    expect(shown(3.14159, { kind: "number" })).toBe("3.14");
    expect(shown(0.1234, { kind: "number" })).toBe("0.123");
    expect(shown(2350, { kind: "number" })).toBe("2350");
    expect(shown(1, { kind: "flag" })).toBe("yes");
    expect(shown(2, { kind: "code", codes: { "2": "asleep" } })).toBe("asleep");
    expect(shown(9, { kind: "code", codes: {} })).toBe("code 9");
    expect(shown([37.41, -42.6], { kind: "position" })).toBe("37.41000, -42.60000");
    expect(shown(null, { kind: "number" })).toBe("no value");
    expect(unitOf("1")).toBe("");
    expect(unitOf("mg/L")).toBe("mg/L");
  });
});

describe("times", () => {
  it("stand in the viewer's zone, with it said", () => {
    setZone("Etc/GMT+2");
    const at = new Date("2026-03-02T09:10:05Z");
    expect(zoneWord(at)).toBe("UTC\u22122");
    expect(exact(at)).toContain("07:10:05");
    expect(when(at, new Date("2026-03-02T12:00:00Z"))).toBe("07:10:05");
    expect(when(at, new Date("2026-03-09T12:00:00Z"))).toContain("2 07:10");
    setZone("UTC");
  });
  it("last in words", () => {
    expect([59, 60, 3661, 90061].map(lasting)).toEqual(["59 s", "1 min", "1 h 1 min", "1 d 1 h"]);
  });
});

describe("marks", () => {
  it("say priority and whether anybody has taken it", () => {
    render(<PriorityMark priority="critical" taken={false} />);
    expect(screen.getByRole("img", { name: "critical priority, unacknowledged" })).toBeInTheDocument();
  });
  it("say the state of a device", () => {
    render(<StateMark state="silent" />);
    expect(screen.getByRole("img", { name: "silent" })).toBeInTheDocument();
  });
});

describe("a curve", () => {
  it("breaks where nothing came", () => {
    const line = withGaps({ t: [0, 10, 100, 110], v: [1, 2, 3, 4] }, 30);
    expect(line.v).toEqual([1, 2, null, 3, 4]);
    expect(line.t[2]).toBe(55);
  });
});

describe("bytes", () => {
  it("say what reads them and what nothing reads", () => {
    render(<HexRow hex="0a1b" tints={new Map([[0, [{ tint: 0, line: 2, field: "level" }]]])} />);
    expect(screen.getByRole("gridcell", { name: "byte 0: 0a, level" })).toBeInTheDocument();
    expect(screen.getByRole("gridcell", { name: "byte 1: 1b, read by nothing" })).toBeInTheDocument();
  });
});

describe("a fix", () => {
  it("replaces the faulty words only", () => {
    const text = "one\n  byte 0  a  u8  Cell\n";
    expect(fixed(text, { line: 2, column: 18, end_column: 22, fix: "Cel", message: "", severity: "error" })).toBe(
      "one\n  byte 0  a  u8  Cel\n",
    );
  });
});

function Probe() {
  const lookback = useLookback();
  const kept = useKept();
  return (
    <p>
      {lookback.spanS} {lookback.live ? "live" : lookback.to?.toISOString()} {kept("/alarms", { show: "all" })}
    </p>
  );
}

describe("the lookback", () => {
  it("stands in the URL and goes along with links", () => {
    render(
      <MemoryRouter initialEntries={["/devices?span=3600&to=2026-03-02T09:10:00Z&q=x"]}>
        <Probe />
      </MemoryRouter>,
    );
    expect(
      screen.getByText(/3600 2026-03-02T09:10:00.000Z \/alarms\?span=3600&to=2026-03-02T09%3A10%3A00Z&show=all/),
    ).toBeInTheDocument();
  });
  it("takes nonsense for now", () => {
    render(
      <MemoryRouter initialEntries={["/devices?span=x&to=yesterday"]}>
        <Probe />
      </MemoryRouter>,
    );
    expect(screen.getByText(/86400 live/)).toBeInTheDocument();
  });
  it("is told in words", () => {
    expect([600, 3600, 21600, 86400, 604800].map(spanWord)).toEqual([
      "10 minutes",
      "60 minutes",
      "6 hours",
      "24 hours",
      "7 days",
    ]);
  });
});

describe("trouble", () => {
  it("is told in the server's words", () => {
    render(<Trouble error={new Error("the disk is full")} />);
    expect(screen.getByRole("alert")).toHaveTextContent("the disk is full");
  });
});
