import type uPlot from "uplot";
import type { Line, More } from "./chart";
import { exact, ticks, tickWord } from "./time";
import { colour } from "./canvas";
import { tone } from "./tones";

/** What is drawn, with its title and its span above it. */
export function pngOf(plot: uPlot, title: string, about: string): Promise<Blob | null> {
  const drawn = plot.ctx.canvas;
  const ratio = drawn.width / plot.width;
  const head = 44 * ratio;
  const whole = document.createElement("canvas");
  [whole.width, whole.height] = [drawn.width, drawn.height + head];
  const pen = whole.getContext("2d");
  if (!pen) return Promise.resolve(null);
  pen.fillStyle = colour("paper");
  pen.fillRect(0, 0, whole.width, whole.height);
  pen.fillStyle = colour("ink");
  pen.textBaseline = "top";
  pen.font = `600 ${15 * ratio}px 'Hanken Grotesk Variable', sans-serif`;
  pen.fillText(title, 8 * ratio, 6 * ratio, whole.width - 16 * ratio);
  pen.fillStyle = colour("second");
  pen.font = `${12 * ratio}px 'Hanken Grotesk Variable', sans-serif`;
  pen.fillText(about, 8 * ratio, 26 * ratio, whole.width - 16 * ratio);
  pen.drawImage(drawn, 0, head);
  return new Promise((done) => whole.toBlob(done, "image/png"));
}

const [WIDE, TALL, LEFT, TOP, RIGHT, FOOT] = [960, 420, 64, 56, 170, 34];
const escaped = (text: string) => text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll('"', "&quot;");

/** Curves as a drawing of lines: each on its own scale where its unit is another. Times in seconds. */
export function svgOf(
  lines: (More & { line: Line })[],
  from: number,
  to: number,
  title: string,
  about: string,
): string {
  const x = (t: number) => LEFT + ((t - from) / (to - from)) * (WIDE - LEFT - RIGHT);
  const units = [...new Set(lines.map((l) => l.unit))];
  const scales = new Map(
    units.map((unit) => {
      const values = lines.filter((l) => l.unit === unit).flatMap((l) => l.line.v.filter((v) => v !== null));
      const low = values.reduce((a, b) => Math.min(a, b), Infinity);
      const high = values.reduce((a, b) => Math.max(a, b), -Infinity);
      const pad = (high - low || Math.abs(high) || 1) * 0.08;
      return [unit, [low - pad, high + pad] as const];
    }),
  );
  const y = (unit: string, v: number) => {
    const [low, high] = scales.get(unit) ?? [0, 1];
    return TOP + ((high - v) / (high - low)) * (TALL - TOP - FOOT);
  };
  const out = [
    `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${WIDE} ${TALL}" font-family="sans-serif" font-size="12">`,
    `<rect width="${WIDE}" height="${TALL}" fill="#ffffff"/>`,
    `<text x="12" y="24" font-size="16" font-weight="600">${escaped(title)}</text>`,
    `<text x="12" y="42" fill="#555555">${escaped(about)}</text>`,
  ];
  for (const t of ticks(from * 1000, to * 1000, 9)) {
    const at = x(t / 1000).toFixed(1);
    out.push(`<path d="M${at} ${TOP}V${TALL - FOOT}" stroke="#dddddd"/>`);
    out.push(`<text x="${at}" y="${TALL - 12}" fill="#555555">${escaped(tickWord(t))}</text>`);
  }
  units.forEach((unit, k) => {
    const [low, high] = scales.get(unit) ?? [0, 1];
    if (!Number.isFinite(low)) return;
    for (const share of [0.08, 0.36, 0.64, 0.92]) {
      const value = low + (high - low) * share;
      const at = y(unit, value).toFixed(1);
      const text = `${Number(value.toPrecision(4))} ${unit}`.trim();
      const place = k === 0 ? `x="${LEFT - 8}" text-anchor="end"` : `x="${WIDE - RIGHT + 6 + (k - 1) * 56}"`;
      out.push(`<text ${place} y="${at}" fill="#555555">${escaped(text)}</text>`);
      if (k === 0) out.push(`<path d="M${LEFT} ${at}H${WIDE - RIGHT}" stroke="#eeeeee"/>`);
    }
  });
  lines.forEach((l, k) => {
    let path = "";
    let pen = false;
    l.line.t.forEach((t, i) => {
      const v = l.line.v[i];
      const before = l.line.t[i - 1];
      if (v === null || v === undefined) return (pen = false);
      if (before !== undefined && t - before > l.gapS) pen = false;
      path += `${pen ? "L" : "M"}${x(t).toFixed(1)} ${y(l.unit, v).toFixed(1)}`;
      pen = true;
    });
    const dash = tone(k).dash.join(" ");
    out.push(
      `<path d="${path}" fill="none" stroke="#17252a" stroke-width="1.4"${dash ? ` stroke-dasharray="${dash}"` : ""}/>`,
    );
    const at = TOP + 14 + k * 17;
    const left = WIDE - RIGHT + (units.length > 1 ? 8 + (units.length - 1) * 56 : 8);
    out.push(`<path d="M${left} ${at - 4}h18" stroke="#17252a"${dash ? ` stroke-dasharray="${dash}"` : ""}/>`);
    out.push(`<text x="${left + 24}" y="${at}">${escaped(l.label)}</text>`);
  });
  out.push("</svg>");
  return out.join("\n");
}

/** The span in words, for the head of what is taken away. */
export const spanned = (from: Date, to: Date) => `${exact(from)} to ${exact(to)}`;
