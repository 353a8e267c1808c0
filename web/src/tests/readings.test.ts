// @vitest-environment jsdom
import { follow, newer, type Told } from "../api/readings";

const row = (at: string, values: Record<string, unknown>): Told => ({
  device: "buoy-12",
  at,
  received_at: at,
  message: "7",
  values,
});

class Feed {
  static all: Feed[] = [];
  onmessage: ((event: { data: string }) => void) | null = null;
  onclose: ((event: { code: number }) => void) | null = null;
  constructor(public url: string) {
    Feed.all.push(this);
  }
  close() {}
  tell(frame: object) {
    this.onmessage?.({ data: JSON.stringify(frame) });
  }
}

describe("readings as they come", () => {
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout", "requestAnimationFrame", "cancelAnimationFrame"] });
    vi.stubGlobal("WebSocket", Feed);
    Feed.all = [];
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  it("keeps of each field what was measured last, whatever came last", () => {
    const first = newer({}, [row("2000-01-01T10:00:00Z", { oxygen: 8, battery: 3.9 })]);
    const late = newer(first, [row("2000-01-01T09:00:00Z", { oxygen: 1, turbidity: 2 })]);
    expect(Object.entries(late).map(([field, one]) => [field, one.value])).toEqual([
      ["oxygen", 8],
      ["battery", 3.9],
      ["turbidity", 2],
    ]);
  });

  it("tells all rows of a frame of the screen at once, and goes on from its mark", () => {
    const told: number[] = [];
    const leave = follow("buoy-12", (rows) => told.push(rows.length));
    const [first] = Feed.all as [Feed];
    first.tell({ hello: { after: "5" } });
    first.tell({ readings: [row("2000-01-01T10:00:00Z", { oxygen: 8 })], after: "6" });
    first.tell({ readings: [row("2000-01-01T10:01:00Z", { oxygen: 9 })], after: "9" });
    vi.advanceTimersByTime(40);
    expect(told).toEqual([2]);
    first.onclose?.({ code: 1006 });
    vi.advanceTimersByTime(300);
    expect((Feed.all[1] as Feed).url).toContain("/live/readings/?device=buoy-12&after=9");
    leave();
    (Feed.all[1] as Feed).onclose?.({ code: 1000 });
    vi.advanceTimersByTime(10_000);
    expect(Feed.all).toHaveLength(2);
  });

  it("does not ask again for what cannot be told, nor without a session", () => {
    follow("nobody", () => {});
    (Feed.all[0] as Feed).tell({ error: "there is no `nobody`" });
    (Feed.all[0] as Feed).onclose?.({ code: 4400 });
    follow("buoy-12", () => {});
    (Feed.all[1] as Feed).onclose?.({ code: 4401 });
    vi.advanceTimersByTime(10_000);
    expect(Feed.all).toHaveLength(2);
  });
});
