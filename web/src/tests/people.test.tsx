import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { HealthStrip } from "../parts/health";
import { harmless } from "../parts/harmless";
import { Overtaken } from "../places/definitions/overtaken";
import { PasswordForm } from "../places/password";
import { answer, asked, sent, serve, show } from "./server";

serve();

describe("a stranger's text", () => {
  it("shows marks of control and direction and obeys none", () => {
    expect(harmless("buoy\u202Egro.elpmaxe\u2066")).toBe("buoy\\u{202e}gro.elpmaxe\\u{2066}");
    expect(harmless("a\u0000b\u001B[2J\u200B")).toBe("a\\u{0}b\\u{1b}[2J\\u{200b}");
    expect(harmless("half \uD800 a pair")).toBe("half \\u{d800} a pair");
  });
  it("is left as it is where it only says something", () => {
    for (const plain of ["Merle Reach", "Boje Nordwärts 7 °C", "潮位 🌊", "a b"]) expect(harmless(plain)).toBe(plain);
  });
});

describe("the own password", () => {
  const fill = (old: string, fresh: string, again: string) => {
    fireEvent.change(screen.getByLabelText("the password so far"), { target: { value: old } });
    fireEvent.change(screen.getByLabelText(/^new password/), { target: { value: fresh } });
    fireEvent.change(screen.getByLabelText(/^the new one again/), { target: { value: again } });
  };
  it("is sent only when it is long enough and the same twice", async () => {
    answer({ "POST /api/v1/me/password": { csrf: "c", must_change_password: false } });
    show(<PasswordForm word="Change it" />);
    const button = screen.getByRole("button", { name: "Change it" });
    fill("old", "too short", "too short");
    expect(button).toBeDisabled();
    fill("old", "ropes and long tides", "ropes and long tide");
    expect(button).toBeDisabled();
    expect(screen.getByText("not the same yet")).toBeInTheDocument();
    fill("old", "ropes and long tides", "ropes and long tides");
    fireEvent.click(button);
    expect(await screen.findByText(/^Changed\./)).toBeInTheDocument();
    expect(asked).toHaveLength(1);
    expect(sent("POST", "/api/v1/me/password")).toEqual({ old: "old", new: "ropes and long tides" });
    expect(screen.getByLabelText("the password so far")).toHaveValue("");
  });
  it("stays as it was when it is refused, and the sentence says why", async () => {
    answer({ "POST /api/v1/me/password": [400, { code: "password", detail: "the password so far is another" }] });
    show(<PasswordForm word="Change it" />);
    fill("wrong", "ropes and long tides", "ropes and long tides");
    fireEvent.click(screen.getByRole("button", { name: "Change it" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("the password so far is another");
    expect(screen.getByLabelText(/^new password/)).toHaveValue("ropes and long tides");
  });
});

describe("the strip of Oculum's own health", () => {
  const part = (works: boolean, what = "") => ({ works, what });
  it("is not there while everything works or only starts", async () => {
    const parts = { engine: part(true), intake: part(false, "starting") };
    answer({ "GET /healthz": { status: "whole", parts, notices: [] } });
    const { client } = show(<HealthStrip />);
    await waitFor(() => expect(client.getQueryData(["healthz"])).toMatchObject({ parts }));
    expect(screen.queryByText(/Not all of Oculum works/)).toBeNull();
  });
  it("names what does not work and what is to be minded", async () => {
    const parts = { engine: part(false, "has not answered for 20 s"), broker: part(true) };
    answer({ "GET /healthz": [503, { status: "impaired", parts, notices: ["the clock was set back"] }] });
    show(<HealthStrip />);
    const strip = (await screen.findByText("Not all of Oculum works.")).closest("div");
    expect(strip).toHaveTextContent("the engine: has not answered for 20 s");
    expect(strip).not.toHaveTextContent("the broker");
    expect(strip).toHaveTextContent("the clock was set back");
  });
});

describe("a draft that somebody else changed meanwhile", () => {
  const overtaken = {
    sentence: "Jory Teal has saved the draft meanwhile",
    text: "decoder crate for bytes\nbyte 0  salinity  u8\n",
    keepMine: vi.fn(),
    takeTheirs: vi.fn(),
  };
  const draft = (more: object | null) =>
    ({ text: "decoder crate for bytes\nbyte 0  oxygen  u8\n", overtaken: more }) as never;
  it("shows both texts and leaves the choice", () => {
    render(<Overtaken draft={draft(overtaken)} />);
    expect(screen.getByRole("alert")).toHaveTextContent("Jory Teal has saved the draft meanwhile");
    const lines = screen.getByLabelText("Differences").textContent;
    expect(lines).toContain("+ byte 0  oxygen  u8");
    expect(lines).toContain("- byte 0  salinity  u8");
    fireEvent.click(screen.getByRole("button", { name: "Take theirs" }));
    expect(overtaken.takeTheirs).toHaveBeenCalledTimes(1);
    expect(overtaken.keepMine).not.toHaveBeenCalled();
  });
  it("is not there otherwise", () => {
    const { container } = render(<Overtaken draft={draft(null)} />);
    expect(container).toBeEmptyDOMElement();
  });
});
