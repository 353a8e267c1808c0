import { fireEvent, render, screen } from "@testing-library/react";
import type uPlot from "uplot";
import { Chart } from "../parts/chart";
import { setZone } from "../parts/time";

type Plot = {
  options: uPlot.Options;
  data: uPlot.AlignedData;
  size: { width: number; height: number } | null;
  gone: boolean;
  cursor: { idx: number | null };
};
const made: Plot[] = [];

vi.mock("uplot", () => ({
  default: class {
    static paths = { stepped: () => () => null };
    static pxRatio = 1;
    static join = (tables: uPlot.AlignedData[]) => {
      const times = [...new Set(tables.flatMap((t) => [...(t[0] ?? [])]))].sort((a, b) => a - b);
      const columns = tables.flatMap((t) => t.slice(1).map((c) => times.map((at) => c?.[[...t[0]].indexOf(at)])));
      return [times, ...columns];
    };
    cursor = { idx: null as number | null };
    constructor(options: uPlot.Options, data: uPlot.AlignedData) {
      const plot: Plot = { options, data, size: null, gone: false, cursor: this.cursor };
      made.push(plot);
      Object.defineProperty(this, "data", { get: () => plot.data });
      Object.assign(this, {
        setData: (next: uPlot.AlignedData) => {
          plot.data = next;
        },
        setSize: (size: Plot["size"]) => {
          plot.size = size;
        },
        destroy: () => {
          plot.gone = true;
        },
        redraw: () => undefined,
        valToPos: (t: number) => t,
        setCursor: ({ left }: { left: number }) => {
          this.cursor.idx = (plot.data[0] as number[]).indexOf(left);
          plot.options.hooks?.setCursor?.[0]?.({ cursor: this.cursor, data: plot.data } as unknown as uPlot);
        },
      });
    }
  },
}));

const DAY = 86_400;
const start = Date.parse("2026-03-01T12:00:00Z") / 1000;
const line = { t: [start, start + 600, start + 1200, start + DAY], v: [1, 2.5, null, 4] };

const chart = (more: Partial<Parameters<typeof Chart>[0]> = {}) =>
  render(<Chart label="Level" unit="m" line={line} from={start} to={start + 7 * DAY} gapS={1800} {...more} />);
const last = () => made[made.length - 1] as Plot;
const axis = () => last().options.axes?.[0] as uPlot.Axis;

describe("a chart", () => {
  beforeEach(() => {
    made.length = 0;
    setZone("Etc/GMT+2");
    vi.stubGlobal(
      "ResizeObserver",
      class {
        observe() {}
        disconnect() {}
      },
    );
  });
  afterEach(() => {
    setZone("UTC");
    vi.unstubAllGlobals();
  });

  it("is told in words, with its values and unit", () => {
    chart();
    expect(screen.getByRole("img", { name: /Level: 3 values from 1.000 to 4.000 m/ })).toBeInTheDocument();
  });

  it("marks days at the midnights of the zone shown, named from there on", () => {
    chart();
    const splits = axis().splits as unknown as (u: object, axis: number, low: number, high: number) => number[];
    const at = splits({ width: 700 }, 0, start, start + 7 * DAY);
    expect(at.map((t) => new Date(t * 1000).toISOString())).toEqual(
      [2, 3, 4, 5, 6, 7, 8].map((d) => `2026-03-0${d}T02:00:00.000Z`),
    );
    const words = (axis().values as unknown as (u: object, at: number[]) => string[])({}, at);
    expect(words.slice(0, 2)).toEqual(["2 Mar", "3 Mar"]); // long ago: their month says more than their weekday
    expect(axis().align).toBe(1);
  });

  it("reads a value out with its day where it shows more than one", () => {
    chart();
    const figure = screen.getByRole("img", { name: /Level/ });
    fireEvent.keyDown(figure, { key: "ArrowLeft" });
    expect(screen.getByText("Mon 2 10:00 · 4 m")).toBeInTheDocument();
    fireEvent.keyDown(figure, { key: "ArrowLeft" });
    fireEvent.keyDown(figure, { key: "ArrowLeft" });
    fireEvent.keyDown(figure, { key: "ArrowLeft" });
    expect(screen.getByText("Sun 1 10:10 · 2.5 m")).toBeInTheDocument();
  });

  it("reads a value out by the clock where it shows a day or less", () => {
    chart({ to: start + 3600 });
    fireEvent.keyDown(screen.getByRole("img", { name: /Level/ }), { key: "ArrowLeft" });
    expect(screen.getByText("10:00:00 · 4 m")).toBeInTheDocument();
  });

  it("keeps its limits in view and breaks where nothing came", () => {
    chart({ limits: [{ value: 9, word: "too high" }] });
    const range = last().options.scales?.y?.range as unknown as (u: object, min: number, max: number) => number[];
    const [low, high] = range({}, 1, 4) as [number, number];
    expect(low).toBeLessThan(1);
    expect(high).toBeGreaterThan(9);
    expect((last().data[1] as (number | null)[]).filter((v) => v === null).length).toBeGreaterThanOrEqual(2);
  });

  it("draws further curves on axes of their own units, and a band behind them", () => {
    const more = [
      { label: "Depth", unit: "m", line: { t: [start], v: [3] }, gapS: 60 },
      { label: "Heat", unit: "°C", line: { t: [start + 5], v: [20] }, gapS: 60 },
    ];
    chart({ more, among: { t: [start], low: [0], middle: [1], high: [2] } });
    const { series, axes, scales } = last().options;
    expect(series.slice(-2).map((s) => [s.label, s.scale])).toEqual([
      ["Depth", "y"],
      ["Heat", "of °C"],
    ]);
    expect(axes?.map((a) => a.scale)).toEqual([undefined, undefined, "of °C"]);
    expect(Object.keys(scales ?? {})).toContain("of °C");
    expect(last().data).toHaveLength(series.length);
    fireEvent.keyDown(screen.getByRole("img", { name: /Level/ }), { key: "ArrowLeft" });
  });

  it("hands on a span that is dragged, and none for a press", () => {
    const onSpan = vi.fn();
    chart({ onSpan });
    const select = last().options.hooks?.setSelect?.[0] as unknown as (u: object) => void;
    const drawn = (width: number) => ({ select: { left: 10, width }, posToVal: (x: number) => x, setSelect: vi.fn() });
    select(drawn(4));
    expect(onSpan).not.toHaveBeenCalled();
    select(drawn(90));
    expect(onSpan).toHaveBeenCalledWith(10, 100);
  });

  it("is one plot as long as it is the same chart, and leaves nothing behind", () => {
    const { rerender, unmount } = chart();
    rerender(<Chart label="Level" unit="m" line={{ t: [start], v: [7] }} from={start} to={start + DAY} gapS={60} />);
    expect(made).toHaveLength(1);
    expect(last().data[1]).toEqual([7]);
    unmount();
    expect(last().gone).toBe(true);
  });
});
