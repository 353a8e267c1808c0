import uPlot from "uplot";

/** From so many values a pixel on a line cannot be told from the ground it covers. */
const DENSE = 6;
const linear = uPlot.paths.linear?.();

/**
 * A line through exact points where they are apart; where many lie on each pixel, the ground between the lowest and the
 * highest of each, which is what such a line would cover, without the time that stroking it takes; broken as its
 * dashes are. `paint`: its colour.
 */
export const lineOrGround =
  (paint: () => string): uPlot.Series.PathBuilder =>
  (u, series, first, last) => {
    if (last - first < DENSE * u.bbox.width) {
      const line = linear?.(u, series, first, last) ?? null;
      return line && { ...line, fill: null };
    }
    const of = u.series[series] as uPlot.Series;
    const ground = { stroke: null, fill: covered(u, of, series, first, last), _fill: paint(), flags: 0 };
    return ground as uPlot.Series.Paths;
  };

/** The ground that a line covers, column by column of pixels; in two parts where a value is missing. */
function covered(u: uPlot, of: uPlot.Series, series: number, first: number, last: number): Path2D {
  const times = u.data[0];
  const values = u.data[series] as (number | null | undefined)[];
  const x = u.scales.x as { min: number; max: number };
  const y = u.scales[of.scale ?? "y"] as { min: number; max: number };
  const { left, top, width, height } = u.bbox;
  const [wide, tall] = [width / (x.max - x.min), height / (y.max - y.min)];
  const half = ((of.width ?? 1) * uPlot.pxRatio) / 2;
  const inked = inkOf((of.dash ?? []).map((d) => d * uPlot.pxRatio));
  const path = new Path2D();
  const most = Math.ceil(width) + 4; // with one value before it and one behind
  const [at, lows, highs] = [new Float64Array(most), new Float64Array(most), new Float64Array(most)];
  let count = 0; // columns of this part so far
  let [low, high, own, edge, before, some] = [0, 0, 0, 0, NaN, false]; // of the column under way; its end in time
  const end = () => {
    if (!some) return;
    [lows[count], highs[count]] = [low, high];
    count++;
    some = false;
  };
  const up = (value: number) => top + (y.max - value) * tall;
  const run = (from: number, to: number) => {
    path.moveTo(at[from] as number, up(highs[from] as number) - half);
    for (let k = from + 1; k < to; k++) path.lineTo(at[k] as number, up(highs[k] as number) - half);
    if (to - from === 1) {
      const x = (at[from] as number) + 1; // one that stands alone is a pixel wide
      path.lineTo(x, up(highs[from] as number) - half);
      path.lineTo(x, up(lows[from] as number) + half);
    }
    for (let k = to - 1; k >= from; k--) path.lineTo(at[k] as number, up(lows[k] as number) + half);
    path.closePath();
  };
  const close = () => {
    end();
    let from = 0;
    let way = 0; // along the middle of the ground
    const middle = (k: number) => (((lows[k] as number) + (highs[k] as number)) / 2) * tall;
    for (let k = 0; k < count; k++) {
      if (k) way += Math.hypot((at[k] as number) - (at[k - 1] as number), middle(k) - middle(k - 1));
      if (inked(way)) continue;
      if (k > from) run(from, k);
      from = k + 1;
    }
    if (count > from) run(from, count);
    count = 0;
    before = NaN;
  };
  for (let k = first; k <= last; k++) {
    const value = values[k];
    if (value === undefined) continue; // another curve's moment
    if (value === null) {
      close();
      continue;
    }
    const time = times[k] as number;
    let column = own;
    if (!some || time >= edge) column = Math.floor((time - x.min) * wide);
    if (some && column === own) {
      if (value < low) low = value;
      if (value > high) high = value;
    } else {
      end();
      own = column;
      at[count] = left + column;
      edge = x.min + (column + 1) / wide;
      low = before < value ? before : value; // from where the line comes
      high = before > value ? before : value;
      some = true;
    }
    before = value;
  }
  close();
  return path;
}

/** Whether a dashed line has ink so far along its way; `dash`: lengths with and without, in turn. */
function inkOf(dash: number[]): (way: number) => boolean {
  const whole = dash.reduce((sum, d) => sum + d, 0);
  if (!whole) return () => true;
  return (way) => {
    let rest = way % whole;
    for (let k = 0; k < dash.length; k++) {
      rest -= dash[k] as number;
      if (rest < 0) return k % 2 === 0;
    }
    return true;
  };
}
