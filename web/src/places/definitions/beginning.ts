import type { Schemas } from "../../api/client";

type Type = Schemas["TypeOut"];

/** The kinds of payload that a decoder can be begun for, as the text says them and as people do. */
export const PAYLOADS: [string, string][] = [
  ["bytes, big endian", "bytes, most significant first"],
  ["bytes, little endian", "bytes, least significant first"],
  ["json", "JSON"],
  ["cbor", "CBOR, the binary form of JSON"],
  ["senml", "SenML packs"],
  ["text", "text: lines, sentences, tables"],
  ["registers", "registers of 16 bits"],
  ["coils", "coils: single bits"],
];

/** The kind of payload that a message looks like. `hex`: its bytes; `text`: the same as text, where it is some. */
export function looksLike(hex: string, text: string | null): string {
  if (text === null) return /^[9ab][0-9a-f]/i.test(hex) && isMap(hex) ? "cbor" : "bytes, big endian";
  const start = text.trimStart();
  if (!/^[[{]/.test(start)) return "text";
  try {
    const found: unknown = JSON.parse(text);
    const first: unknown = Array.isArray(found) ? found[0] : null;
    return typeof first === "object" && first !== null && ("n" in first || "bn" in first) ? "senml" : "json";
  } catch {
    return "text";
  }
}

/** Whether bytes begin as a map of CBOR does whose first key is a text (RFC 8949, major types 5 and 3). */
const isMap = (hex: string) => /^(a[0-9a-f]|bf)(6|7)/i.test(hex);

export const decoderDraft = (key: string, source: string) => `decoder ${key} for ${source}\n  `;

/** On which side of a limit the trouble lies, by the words in which it is named. */
function signOf(words: string): "<" | ">" | null {
  if (/(^|[_\s])(min|minimum|low|lower|least|floor|below|under|weak|empty)($|[_\s])/.test(words)) return "<";
  if (/(^|[_\s])(max|maximum|high|upper|most|ceiling|above|over|hot|full)($|[_\s])/.test(words)) return ">";
  return null;
}

/** A first text for a condition: the field and the setpoint that its name speaks of, on the side that they mean. */
/** A draft for some devices of a type: `scope` is what stands behind the type in its text. */
export const scoped = (text: string, type: string, scope: string) =>
  scope ? text.replace(new RegExp(`^(\\s*on ${type})\\b`, "m"), (_, on: string) => `${on} ${scope}`) : text;

/** What a definition says of the devices that a filter names: labels and site; a word or a state is none. */
export function scopeOf(filter: Record<string, string | undefined>): string {
  const labels = (filter.q ?? "").split(/\s+/).flatMap((word) => {
    const [, name, value] = /^(\w+)=([^"]+)$/.exec(word) ?? [];
    return name && value ? [`label ${name} = "${value}"`] : [];
  });
  const site = filter.site ? [`at site "${filter.site}"`] : [];
  return [...site, ...(labels.length ? [`with ${labels.join(", ")}`] : [])].join(" ");
}

export function conditionDraft(name: string, type: Type): string {
  const words = name.toLowerCase();
  const numbers = type.fields?.filter((f) => ["number", "integer"].includes(f.kind)) ?? [];
  const spoken = (text: string) => text.split("_").filter((w) => w.length > 2 && words.includes(w)).length;
  const wanted = signOf(words);
  const pairs = numbers.flatMap((field) =>
    (type.setpoints ?? [])
      .filter((s) => s.unit === (field.unit || "1"))
      .map((setpoint) => ({
        field,
        setpoint,
        fit:
          (setpoint.name.startsWith(field.name) ? 4 : 0) +
          2 * spoken(field.name) +
          spoken(setpoint.name) +
          (wanted && signOf(setpoint.name) === wanted ? 3 : 0),
      })),
  );
  const best = pairs.reduce<(typeof pairs)[number] | null>((a, b) => (a && a.fit >= b.fit ? a : b), null);
  const field = best?.field ?? [...numbers].sort((a, b) => spoken(b.name) - spoken(a.name))[0];
  const sign = (best && signOf(best.setpoint.name)) ?? wanted ?? ">";
  const unit = field?.unit && field.unit !== "1" ? ` ${field.unit}` : "";
  const rule = !field ? "" : `${field.name} ${sign} ${best ? `setpoint ${best.setpoint.name}` : `0${unit}`}`;
  return `condition "${name}" priority medium\n  on ${type.key}\n  raise when ${rule} held 5 min\n`;
}

/** What a condition can be begun from: the question, as people ask it, and whether it is one about a number. */
export const QUESTIONS: [string, string, boolean][] = [
  ["too high", "a value is too high", true],
  ["too low", "a value is too low", true],
  ["mean", "its mean over hours is too high", true],
  ["changed fast", "it changes too fast", true],
  ["several", "it is low on several devices of a site", true],
  ["outside", "a device is outside its area", false],
  ["quiet", "a device has gone quiet", false],
  ["too little", "too few messages arrive", false],
];

/** What a route can be begun for, as people say it. */
export const PURPOSES: [string, string][] = [
  ["nonsense", "drop what is nonsense"],
  ["correct", "correct a field"],
  ["derive", "derive a field"],
  ["gather", "give each site a reading of its own"],
  ["thin", "let only changes through"],
  ["send", "send readings on"],
];

/** A first text for a route, for a purpose; `topic`: what it is watched by, where somebody came with that. */
export function routeDraft(name: string, type: Type, purpose: string, topic = "", outlet = ""): string {
  const fields = type.fields ?? [];
  const numbers = fields.filter((f) => ["number", "integer"].includes(f.kind));
  const position = fields.find((f) => f.kind === "position");
  const first = numbers[0];
  const unit = first?.unit && first.unit !== "1" ? ` ${first.unit}` : "";
  const difference = unit.trim() === "Cel" ? " K" : unit;
  const lines: Record<string, string> = {
    nonsense: position
      ? `  when distance(${position.name}, point(0 deg, 0 deg)) < 1 km\n` +
        `    drop "receiver has no fix yet" ${position.name}\n`
      : `  when ${first?.name ?? "value"} < 0${unit}\n    drop "cannot be" ${first?.name ?? "value"}\n`,
    correct: `  correct ${first?.name ?? "value"} = ${first?.name ?? "value"} + 0.1${difference}\n`,
    derive: `  derive ${first?.name ?? "value"}_change = change(${first?.name ?? "value"}, 1 h)\n`,
    gather: `  gather highest_${first?.name ?? "value"} = max_of(${first?.name ?? "value"}) every 1 h\n`,
    thin: `  thin ${first?.name ?? "value"} by 2 % every 30 min\n`,
    send: `  send ${first?.name ?? "value"} to "${outlet}"\n`,
  };
  const where = topic ? `  topic ${JSON.stringify(topic)}\n` : "";
  return `route ${JSON.stringify(name)}\n  on ${type.key}\n${where}${lines[purpose] ?? ""}`;
}

/** A proposed text under another name. */
export const renamed = (text: string, name: string) =>
  text.replace(/^condition "(?:[^"\\]|\\.)*"/, () => `condition ${JSON.stringify(name)}`);
