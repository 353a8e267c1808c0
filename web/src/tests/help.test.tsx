import { fireEvent, screen } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { about, explained, search, SECTIONS, sectionsOf } from "../help/sections";
import HelpSheet from "../help/sheet";
import { Split } from "../parts/split";
import { UnitField } from "../parts/unit-field";
import Help from "../places/help";
import { answer, serve, show } from "./server";

serve();

const language = {
  functions: [{ name: "clamp", words: "a number kept between two others", kind: "decoder" }],
  checks: [],
  units: [
    { code: "Cel", printed: "°C", words: "degree Celsius, temperature" },
    { code: "mg/L", printed: "mg/L", words: "milligram per litre, oxygen" },
  ],
};

describe("the documents", () => {
  it("are cut at their headings, not at comments in examples", () => {
    const found = sectionsOf("x", "# One\nfirst\n```ocu\n# no heading\n```\n## Two, and more\nsecond\n");
    expect(found.map((s) => [s.level, s.title, s.slug])).toEqual([
      [1, "One", "one"],
      [2, "Two, and more", "two-and-more"],
    ]);
    expect(found[0]?.text).toContain("# no heading");
  });

  it("are found by words, titles first", () => {
    const found = search("expressions");
    expect(found[0]?.title).toBe("Expressions");
    expect(search("lookback cursor").length).toBeGreaterThan(0);
    expect(search("")).toEqual([]);
    expect(search("qqq zzz")).toEqual([]);
  });

  it("explain every word of the language that begins a line", () => {
    for (const word of ["reject", "repeat", "otherwise", "derive", "stamp", "missing", "deadband", "setpoint", "crc"])
      expect(explained(word).length, word).toBeGreaterThan(0);
    expect(explained("")).toEqual([]);
    const section = SECTIONS.find((s) => s.title === "Expressions")!;
    const rows = about("clamp", section);
    expect(rows).toContain("clamp(x, low, high)");
    expect(rows).not.toContain("bit_count");
  });

  it("are read and searched inside the application", async () => {
    const routes = (
      <Routes>
        <Route path="/help/:doc" element={<Help />} />
      </Routes>
    );
    show(routes, "/help/language");
    expect(screen.getByRole("heading", { name: "A condition" })).toBeInTheDocument();
    fireEvent.change(screen.getByRole("searchbox"), { target: { value: "geodesic nowhere" } });
    expect(await screen.findByText(/Nothing in the help has these words/)).toBeInTheDocument();
    fireEvent.change(screen.getByRole("searchbox"), { target: { value: "wrong sum" } });
    expect(await screen.findByRole("link", { name: /Refusing a message/ })).toHaveAttribute(
      "href",
      "/help/language#refusing-a-message-branching-repeating",
    );
  });

  it("stand beside the text for a word, with what is known of functions and units", async () => {
    answer({ "GET /api/v1/language": language });
    const { unmount } = show(<HelpSheet word="clamp" />, "/decoders/1?help=clamp");
    expect(await screen.findByText("a number kept between two others")).toBeInTheDocument();
    unmount();
    show(<HelpSheet word="my_field" />, "/decoders/1?help=my_field");
    expect(await screen.findByText(/does not know this word/)).toBeInTheDocument();
  });
});

describe("a unit's field", () => {
  const Held = ({ put }: { put: (code: string) => void }) => <UnitField label="unit" value="temp" onChange={put} />;

  it("offers units by words and takes the one that is walked to", async () => {
    answer({ "GET /api/v1/language": language });
    const put = vi.fn();
    show(<Held put={put} />);
    const input = screen.getByRole("combobox", { name: "unit" });
    fireEvent.focus(input);
    expect(await screen.findByRole("option", { name: /°C/ })).toBeInTheDocument();
    fireEvent.keyDown(input, { key: "ArrowDown" });
    expect(input).toHaveAttribute("aria-activedescendant", screen.getByRole("option", { name: /°C/ }).id);
    fireEvent.keyDown(input, { key: "Enter" });
    expect(put).toHaveBeenLastCalledWith("Cel");
    fireEvent.keyDown(input, { key: "Escape" });
    expect(screen.queryByRole("option")).toBeNull();
  });
});

describe("two panes", () => {
  it("are widened by keys, within bounds, and stay as they were put", () => {
    const panes = <Split name="test" left={<p>left</p>} right={<p>right</p>} />;
    const { unmount } = show(panes);
    const handle = screen.getByRole("separator");
    fireEvent.keyDown(handle, { key: "ArrowRight" });
    expect(handle).toHaveAttribute("aria-valuenow", "61");
    for (let i = 0; i < 20; i += 1) fireEvent.keyDown(handle, { key: "ArrowRight" });
    expect(handle).toHaveAttribute("aria-valuenow", "74");
    unmount();
    show(panes);
    expect(screen.getByRole("separator")).toHaveAttribute("aria-valuenow", "74");
    fireEvent.keyDown(screen.getByRole("separator"), { key: "Home" });
    expect(screen.getByRole("separator")).toHaveAttribute("aria-valuenow", "58");
    localStorage.clear();
  });
});
