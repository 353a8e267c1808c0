import { fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter, useLocation } from "react-router";
import { describe, expect, it } from "vitest";
import { count, ident, mark, named, oneOf, readAddress, several, useAddress, word } from "../parts/address";

const ADDRESS = {
  q: word,
  device: named,
  offset: count,
  alarm: ident,
  among: mark(false),
  around: mark(true),
  as: oneOf(["time", "ratio"], "time"),
  line: several(
    (text) => (text.includes(":") ? text.split(":") : null),
    (pair) => pair.join(":"),
  ),
};
const at = (query: string) => readAddress(ADDRESS, new URLSearchParams(query));

describe("an address", () => {
  it("says what is usual where it says nothing", () =>
    expect(at("")).toEqual({
      q: "",
      device: null,
      offset: 0,
      alarm: null,
      among: false,
      around: true,
      as: "time",
      line: [],
    }));

  it("is read as if nothing were there where something strange is", () =>
    expect(at("offset=-4&alarm=x&among=yes&around=no&as=pie&line=alone&line=a:b&device=")).toEqual({
      ...at(""),
      line: [["a", "b"]],
    }));

  it("gives back what is written", () => {
    const values = {
      q: "a b&c=d",
      device: "buoy-1",
      offset: 120,
      alarm: 7,
      among: true,
      around: false,
      as: "ratio",
      line: [
        ["a", "b"],
        ["c", "d"],
      ],
    };
    const query = new URLSearchParams();
    for (const [name, part] of Object.entries(ADDRESS))
      for (const text of (part as typeof word).write(values[name as keyof typeof values] as string))
        query.append(name, text);
    expect(at(query.toString())).toEqual(values);
  });
});

function Screen() {
  const [{ q, offset }, put] = useAddress(ADDRESS, { ends: "offset" });
  return (
    <>
      <button onClick={() => put({ q: "raft" })}>narrow</button>
      <button onClick={() => put({ offset: offset + 50 })}>next</button>
      <button onClick={() => put({ q: "" })}>all</button>
      <output>{`${q} ${offset} ${useLocation().search}`}</output>
    </>
  );
}

describe("a screen", () => {
  it("changes its own parts alone, and begins at the first page where it is narrowed", () => {
    render(
      <MemoryRouter initialEntries={["/devices?span=3600&offset=50"]}>
        <Screen />
      </MemoryRouter>,
    );
    const press = (name: string) => fireEvent.click(screen.getByRole("button", { name }));
    const says = () => screen.getByRole("status").textContent;
    press("next");
    expect(says()).toBe(" 100 ?span=3600&offset=100");
    press("narrow");
    expect(says()).toBe("raft 0 ?span=3600&q=raft");
    press("all");
    expect(says()).toBe(" 0 ?span=3600");
  });
});
