import { fireEvent, render, screen } from "@testing-library/react";
import { useState } from "react";
import { Boundary } from "../parts/boundary";

let broken = false;

function Part() {
  if (broken) throw new Error("no such thing");
  return <p>the part</p>;
}

function Screen() {
  const [text, setText] = useState("");
  return (
    <>
      <input aria-label="text" value={text} onChange={(event) => setText(event.target.value)} />
      <Boundary what="The curve">
        <Part />
      </Boundary>
    </>
  );
}

describe("a part that fails", () => {
  beforeEach(() => {
    broken = false;
    vi.spyOn(console, "error").mockImplementation(() => {});
  });
  afterEach(() => vi.restoreAllMocks());

  it("is said to, beside what was written, and drawn again", () => {
    render(<Screen />);
    broken = true;
    fireEvent.change(screen.getByLabelText("text"), { target: { value: "decoder pod" } });
    // Drawn anew with the next change.
    expect(screen.getByRole("alert")).toHaveTextContent("The curve could not be drawn.");
    expect(screen.getByLabelText("text")).toHaveValue("decoder pod");
    expect(screen.getByRole("alert")).toHaveTextContent("no such thing");
    broken = false;
    fireEvent.click(screen.getByRole("button", { name: "Draw it again" }));
    expect(screen.getByText("the part")).toBeInTheDocument();
    expect(screen.getByLabelText("text")).toHaveValue("decoder pod");
  });

  it("asks for the page anew where its code is of an older version", () => {
    const Gone = () => {
      throw new TypeError("Failed to fetch dynamically imported module: /assets/x.js");
    };
    render(
      <Boundary what="The screen">
        <Gone />
      </Boundary>,
    );
    expect(screen.getByRole("alert")).toHaveTextContent("Oculum was renewed while this page was open.");
  });
});
