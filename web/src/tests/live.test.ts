import { staleBy } from "../api/live";

describe("a frame of the live feed", () => {
  it("makes stale what it speaks of and nothing else", () => {
    const is = staleBy({ seq: 3, devices: ["buoy-01"], alarms: [] });
    expect(is(["device", "buoy-01", 86400, "live"])).toBe(true);
    expect(is(["series", "buoy-02"])).toBe(false);
    expect(is(["overview", "live"])).toBe(true);
    expect(is(["alarms", "list"])).toBe(false);
    expect(is(["check", "decoder"])).toBe(false);
  });
  it("with alarms renews alarms and journal", () => {
    const is = staleBy({ seq: 4, devices: [], alarms: [7] });
    expect(is(["alarms", "list"])).toBe(true);
    expect(is(["journal"])).toBe(true);
    expect(is(["device", "buoy-01"])).toBe(false);
  });
  it("that says resync renews everything", () => {
    expect(staleBy({ resync: true })(["anything"])).toBe(true);
  });
  it("of many devices renews every device", () => {
    expect(staleBy({ devices: ["a"], many: true })(["device", "z"])).toBe(true);
  });
});
