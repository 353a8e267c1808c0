import uPlot from "uplot";

/** From so many values a pixel on a line cannot be told from the ground it covers. */
const DENSE = 2.5;
const linear = uPlot.paths.linear?.();

/**
 * A line through exact points where they are apart; where many lie on each pixel, the ground between the lowest and the
 * highest of each, which is what such a line would cover, without the time that stroking it takes. `paint`: its colour.
 */
export const lineOrGround =
  (paint: () => string): uPlot.Series.PathBuilder =>
  (u, series, first, last) => {
    if (last - first < DENSE * u.bbox.width) {
      const line = linear?.(u, series, first, last) ?? null;
      return line && { ...line, fill: null };
    }
    const own = u.series[series] as uPlot.Series;
    const ground = { stroke: null, fill: covered(u, own, series, first, last), _fill: paint(), flags: 0 };
    return ground as uPlot.Series.Paths;
  };

/** The ground that a line covers, column by column of pixels; in two parts where a value is missing. */
function covered(u: uPlot, own: uPlot.Series, series: number, first: number, last: number): Path2D {
  const times = u.data[0];
  const values = u.data[series] as (number | null | undefined)[];
  const x = u.scales.x as { min: number; max: number };
  const y = u.scales[own.scale ?? "y"] as { min: number; max: number };
  const { left, top, width, height } = u.bbox;
  const [wide, tall] = [width / (x.max - x.min), height / (y.max - y.min)];
  const half = ((own.width ?? 1) * uPlot.pxRatio) / 2;
  const path = new Path2D();
  const columns: number[] = []; // pixel, lowest and highest value of each
  let before: number | null = null;
  const close = () => {
    if (columns.length === 3) columns.push((columns[0] as number) + 1, columns[1] as number, columns[2] as number);
    const count = columns.length / 3;
    const at = (k: number) => left + (columns[3 * k] as number);
    const high = (k: number) => top + (y.max - (columns[3 * k + 2] as number)) * tall - half;
    const low = (k: number) => top + (y.max - (columns[3 * k + 1] as number)) * tall + half;
    for (let k = 0; k < count; k++) {
      if (k === 0) path.moveTo(at(k), high(k));
      else path.lineTo(at(k), high(k));
    }
    for (let k = count - 1; k >= 0; k--) path.lineTo(at(k), low(k));
    if (count) path.closePath();
    columns.length = 0;
    before = null;
  };
  for (let k = first; k <= last; k++) {
    const value = values[k];
    if (value === undefined) continue; // another curve's moment
    if (value === null) {
      close();
      continue;
    }
    const column = Math.floor(((times[k] as number) - x.min) * wide);
    const end = columns.length;
    if (end && columns[end - 3] === column) {
      if (value < (columns[end - 2] as number)) columns[end - 2] = value;
      if (value > (columns[end - 1] as number)) columns[end - 1] = value;
    } else {
      columns.push(
        column,
        before === null ? value : Math.min(value, before),
        before === null ? value : Math.max(value, before),
      );
    }
    before = value;
  }
  close();
  return path;
}
