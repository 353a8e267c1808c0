import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { act, render, screen } from "@testing-library/react";
import { useLive, useLiveState } from "../api/live";

/** The server's side of the live feed, as far as a browser sees it. */
class Feed {
  static all: Feed[] = [];
  onmessage: ((event: { data: string }) => void) | null = null;
  onclose: ((event: { code: number }) => void) | null = null;
  closed = false;
  constructor(public url: string) {
    Feed.all.push(this);
  }
  close() {
    this.closed = true;
  }
  tell(frame: object) {
    this.onmessage?.({ data: JSON.stringify(frame) });
  }
  static get last() {
    return Feed.all[Feed.all.length - 1] as Feed;
  }
}

let asked = 0;
let slow: (() => void)[] | null = null;

function Screen() {
  useLive(true);
  const state = useLiveState();
  const list = useQuery({
    queryKey: ["alarms", "list"],
    queryFn: async () => {
      const mine = ++asked;
      if (slow) await new Promise<void>((resolve) => slow?.push(resolve));
      return mine;
    },
    staleTime: Infinity,
  });
  return (
    <p>
      {state}, answer {list.data ?? "none"}
    </p>
  );
}

const pass = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms));
const tell = (frame: object) => act(async () => Feed.last.tell(frame));

describe("the live feed", () => {
  beforeEach(async () => {
    vi.useFakeTimers();
    vi.stubGlobal("WebSocket", Feed);
    Feed.all = [];
    asked = 0;
    slow = null;
    const client = new QueryClient();
    render(
      <QueryClientProvider client={client}>
        <Screen />
      </QueryClientProvider>,
    );
    await pass(0);
    await tell({ hello: 10 });
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  it("renews what a change makes old, soon, and then at most once a second", async () => {
    expect(screen.getByText("live, answer 1")).toBeInTheDocument();
    await tell({ seq: 11, alarms: [1] });
    await pass(200);
    expect(screen.getByText("live, answer 2")).toBeInTheDocument();
    for (let i = 0; i < 9; i += 1) {
      await tell({ seq: 12 + i, alarms: [1] });
      await pass(100);
    }
    expect(asked).toBe(2);
    await pass(300);
    expect(asked).toBe(3);
    await tell({ seq: 30, devices: ["buoy-01"] });
    await pass(2000);
    expect(asked).toBe(3);
  });

  it("throws no slow answer away: it is shown, and asked for once more", async () => {
    slow = [];
    await tell({ seq: 11, alarms: [1] });
    await pass(200);
    expect(asked).toBe(2);
    for (let i = 0; i < 5; i += 1) {
      await tell({ seq: 12 + i, alarms: [2] });
      await pass(1000);
    }
    expect(asked).toBe(2);
    const first = slow.splice(0);
    await act(async () => first.forEach((answer) => answer()));
    await pass(10);
    expect(screen.getByText("live, answer 2")).toBeInTheDocument();
    expect(asked).toBe(3);
    const second = slow.splice(0);
    slow = null;
    await act(async () => second.forEach((answer) => answer()));
    await pass(2000);
    expect(screen.getByText("live, answer 3")).toBeInTheDocument();
    expect(asked).toBe(3);
  });

  it("comes back from where it was, later and later, and says meanwhile that it is lost", async () => {
    await tell({ seq: 15, alarms: [] });
    await act(async () => Feed.last.onclose?.({ code: 1006 }));
    expect(screen.getByText(/^lost/)).toBeInTheDocument();
    await pass(310);
    expect(Feed.all).toHaveLength(2);
    expect(Feed.last.url).toMatch(/\/live\/\?since=15$/);
    await act(async () => Feed.last.onclose?.({ code: 1006 }));
    await pass(310);
    expect(Feed.all).toHaveLength(2);
    await pass(310);
    expect(Feed.all).toHaveLength(3);
    await tell({ hello: 99, resync: true });
    await pass(1000);
    expect(screen.getByText(/^live/)).toBeInTheDocument();
    expect(asked).toBe(2);
  });
});
