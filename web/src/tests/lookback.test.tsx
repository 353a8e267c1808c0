import { fireEvent, screen } from "@testing-library/react";
import { LookbackBand } from "../parts/lookback";
import { setZone } from "../parts/time";
import { answer, serve, show } from "./server";

serve();

const NOW = new Date("2026-03-04T12:00:00Z");
const WIDE = 700;
const SEVEN_DAYS = 7 * 86_400_000;
/** Where a moment lies on the band, which shows seven days up to now. */
const x = (text: string) => ((new Date(text).getTime() - (NOW.getTime() - SEVEN_DAYS)) / SEVEN_DAYS) * WIDE;

const bucket = (at: string, more: object = {}) => ({
  at,
  reporting: 170,
  overdue: 3,
  silent: 0,
  undecodable: 9,
  alarm: 2,
  messages: 4000,
  worst: "high",
  ...more,
});

describe("the lookback", () => {
  beforeEach(() => {
    vi.useFakeTimers({ now: NOW, toFake: ["Date"] });
    vi.stubGlobal(
      "ResizeObserver",
      class {
        constructor(private tell: () => void) {}
        observe() {
          this.tell();
        }
        disconnect() {}
      },
    );
    Object.defineProperty(HTMLElement.prototype, "clientWidth", { configurable: true, value: WIDE });
    HTMLCanvasElement.prototype.getContext = (() => null) as never;
    Element.prototype.setPointerCapture = () => undefined;
    Element.prototype.getBoundingClientRect = () => new DOMRect(0, 0, WIDE, 40);
    answer({
      "GET /api/v1/lookback": {
        bucket_s: 3600,
        devices: 182,
        buckets: [bucket("2026-03-02T09:00:00Z", { silent: 23, reporting: 147 }), bucket("2026-03-02T10:00:00Z")],
      },
    });
  });
  afterEach(() => {
    vi.useRealTimers();
    setZone("UTC");
  });

  const band = async () => {
    show(<LookbackBand />, "/devices");
    const canvas = await screen.findByRole("img", { name: /Devices by state/ });
    return canvas.parentElement as HTMLElement;
  };
  const at = (text: string) => ({ clientX: x(text), pointerId: 1 });
  const where = () => new URL(screen.getByText(/^\/devices/).textContent ?? "", "http://localhost").searchParams;

  it("takes a span that is dragged over it", async () => {
    const box = await band();
    fireEvent.pointerDown(box, at("2026-03-01T06:00:00Z"));
    fireEvent.pointerMove(box, at("2026-03-01T18:00:00Z"));
    fireEvent.pointerUp(box, at("2026-03-01T18:00:00Z"));
    expect(Number(where().get("span"))).toBeCloseTo(12 * 3600, -2);
    expect(new Date(where().get("to") ?? "").getTime()).toBeCloseTo(new Date("2026-03-01T18:00:00Z").getTime(), -5);
    expect(screen.getByRole("button", { name: /^Now/ })).toBeInTheDocument();
  });

  it("goes to the moment that is pressed, and back to now", async () => {
    const box = await band();
    fireEvent.pointerDown(box, at("2026-03-01T06:00:00Z"));
    fireEvent.pointerUp(box, at("2026-03-01T06:00:00Z"));
    expect(where().get("to")).toBe("2026-03-01T06:00:00Z");
    fireEvent.click(screen.getByRole("button", { name: /^Now/ }));
    expect(where().get("to")).toBeNull();
  });

  it("moves the whole span when it is taken in its middle, and never beyond now", async () => {
    const box = await band();
    fireEvent.pointerDown(box, at("2026-03-04T00:00:00Z"));
    fireEvent.pointerMove(box, at("2026-03-02T00:00:00Z"));
    fireEvent.pointerUp(box, at("2026-03-02T00:00:00Z"));
    expect(new Date(where().get("to") ?? "").getTime()).toBeCloseTo(new Date("2026-03-02T12:00:00Z").getTime(), -5);
    expect(where().get("span")).toBeNull();
    const slider = screen.getByRole("slider", { name: "Moment shown" });
    for (let i = 0; i < 20; i += 1) fireEvent.keyDown(slider, { key: "ArrowRight" });
    expect(where().get("to")).toBeNull();
    fireEvent.keyDown(slider, { key: "ArrowLeft" });
    expect(where().get("to")).toBe("2026-03-04T06:00:00Z");
    fireEvent.keyDown(slider, { key: "End" });
    expect(where().get("to")).toBeNull();
  });

  it("says in words what an hour held, in the zone shown", async () => {
    setZone("Etc/GMT+2");
    const box = await band();
    fireEvent.pointerMove(box, at("2026-03-02T09:30:00Z"));
    expect(await screen.findByText("Mon 2 07:00")).toBeInTheDocument();
    expect(box).toHaveTextContent("147 report, 3 overdue, 23 silent, 9 undecodable; 2 in alarm");
    expect(screen.getByText("today")).toBeInTheDocument();
    expect(screen.getByText("Mon 2")).toBeInTheDocument();
    fireEvent.pointerLeave(box);
    expect(screen.queryByText("Mon 2 07:00")).toBeNull();
  });
});
