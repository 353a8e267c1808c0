import table from "../../../core/oculum/printed_units.json";

const words: Record<string, string> = table.words;
const whole: Record<string, string> = table.whole;
const raised: Record<string, string> = table.raised;
const LONGEST_FIRST = Object.keys(words).sort((a, b) => b.length - a.length);

function term(text: string): string {
  const known = whole[text];
  if (known !== undefined) return known;
  let [, symbol = "", power = ""] = /^(.*?)(-?\d*)$/s.exec(text) ?? [];
  if (!symbol) [symbol, power] = [power, ""];
  const end = LONGEST_FIRST.find((word) => symbol.endsWith(word)) ?? "";
  const start = symbol
    .slice(0, symbol.length - end.length)
    .replace(/\[([^\]]*)\]/g, "$1")
    .replace(/\{([^}]*)\}/g, (_, note: string, at: number) => (at ? `(${note})` : note))
    .replace(/^u(?=.)/, "µ")
    .replace(/^u$/, end ? "µ" : "u");
  return start + (words[end] ?? end) + [...power].map((digit) => raised[digit]).join("");
}

/** A unit by its UCUM code as people print it: °C, µg/L, m³/h, dBm, NTU; nothing for the 1 of counts. */
export function printed(code: string): string {
  const terms = code.split(/([./])(?![^{]*\})/);
  if (terms[0] === "1" && terms.length > 1) return `1${terms[1]}${printed(terms.slice(2).join(""))}`;
  return terms.map((t) => (t === "." ? "·" : t === "/" ? t : t && term(t))).join("");
}

/** A unit as `printed`, also where there is none. */
export const unitOf = (code: string | null | undefined) => (code ? printed(code) : "");

/** A name of the code as people read it: `water_temperature` is "Water temperature". `title`: the one it was given. */
export function titled(name: string, title?: string | null): string {
  if (title) return title;
  const text = name.replaceAll("_", " ");
  return text.charAt(0).toUpperCase() + text.slice(1);
}

/** A value with its unit, as people read it. */
export const amount = (value: number | null | undefined, unit: string | undefined) =>
  `${Number(Number(value).toPrecision(6)).toLocaleString("en", { maximumFractionDigits: 6 })} ${unitOf(unit ?? "")}`;
