import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { HealthStrip } from "../parts/health";
import { harmless } from "../parts/harmless";
import { Overtaken } from "../places/definitions/overtaken";
import { PasswordForm } from "../places/password";

/** The server with one answer for everything; what was sent to it is returned. */
function answering(status: number, body: unknown) {
  const sent: unknown[] = [];
  vi.stubGlobal("fetch", async (request: Request | string) => {
    if (typeof request !== "string") sent.push(await request.json().catch(() => null));
    return new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } });
  });
  return sent;
}
afterEach(() => vi.unstubAllGlobals());

const show = (child: ReactNode, client = new QueryClient({ defaultOptions: { queries: { retry: false } } })) =>
  render(<QueryClientProvider client={client}>{child}</QueryClientProvider>);

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
    const sent = answering(200, { csrf: "c", must_change_password: false });
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
    expect(sent).toEqual([{ old: "old", new: "ropes and long tides" }]);
    expect(screen.getByLabelText("the password so far")).toHaveValue("");
  });
  it("stays as it was when it is refused, and the sentence says why", async () => {
    answering(400, { code: "password", detail: "the password so far is another" });
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
    answering(200, { status: "whole", parts, notices: [] });
    const client = new QueryClient();
    const { container } = show(<HealthStrip />, client);
    await waitFor(() => expect(client.getQueryData(["healthz"])).toMatchObject({ parts }));
    expect(container).toBeEmptyDOMElement();
  });
  it("names what does not work and what is to be minded", async () => {
    answering(503, {
      status: "impaired",
      parts: { engine: part(false, "has not answered for 20 s"), broker: part(true) },
      notices: ["the clock was set back"],
    });
    show(<HealthStrip />);
    const strip = await screen.findByRole("status");
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
