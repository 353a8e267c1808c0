/** What people write into fields, read; what cannot be read is said with the way to write it. */
export type Read<T> = { value: T; problem?: undefined } | { value?: undefined; problem: string };

/** A decimal number; empty is none. */
export function amount(text: string, low = -Infinity, high = Infinity): Read<number | null> {
  const trimmed = text.trim().replace("\u2212", "-");
  if (trimmed === "") return { value: null };
  const found = Number(trimmed);
  if (!Number.isFinite(found) || !/^[-+]?[\d.]+(e[-+]?\d+)?$/i.test(trimmed)) {
    const point = /^[-+]?\d+,\d+$/.test(trimmed) ? trimmed.replace(",", ".") : null;
    return { problem: `\`${trimmed}\` is no number${point ? `: write ${point}, with a point` : ""}` };
  }
  if (found < low || found > high) return { problem: `${found} does not lie from ${low} to ${high}` };
  return { value: found };
}

const UNITS: [RegExp, number][] = [
  [/^(s|sec|secs|second|seconds)$/, 1],
  [/^(m|min|mins|minute|minutes)$/, 60],
  [/^(h|hr|hrs|hour|hours)$/, 3600],
  [/^(d|day|days)$/, 86400],
];

/** A length of time in whole seconds, as people write it: `5 min`, `1 h 30 min`, `90 s`, `300`; empty is none. */
export function duration(text: string): Read<number | null> {
  const trimmed = text.trim().toLowerCase();
  if (trimmed === "") return { value: null };
  const parts = [...trimmed.matchAll(/(\d+(?:\.\d+)?)\s*([a-z]*)/g)];
  const wrong = { problem: `\`${text.trim()}\` is no length of time: write 90 s, 5 min, 1 h 30 min or 2 d` };
  if (!parts.length || trimmed.replace(/(\d+(?:\.\d+)?)\s*([a-z]*)/g, "").trim()) return wrong;
  let seconds = 0;
  for (const [, number, unit] of parts) {
    const size = unit === "" && parts.length === 1 ? 1 : UNITS.find(([word]) => word.test(unit ?? ""))?.[1];
    if (!size) return wrong;
    seconds += Number(number) * size;
  }
  if (!Number.isInteger(seconds) || seconds < 1) return { problem: "a whole number of seconds is expected, 1 or more" };
  return { value: seconds };
}

/** A length of time as it can be written and read again. */
export function writtenDuration(seconds: number | null | undefined): string {
  if (!seconds) return "";
  for (const [word, size] of [
    ["d", 86400],
    ["h", 3600],
    ["min", 60],
  ] as const)
    if (seconds % size === 0) return `${seconds / size} ${word}`;
  return `${seconds} s`;
}

/** `name=value` by commas or spaces, as an object. */
export function labels(text: string): Read<Record<string, string>> {
  const found: Record<string, string> = {};
  for (const word of text.split(/[,\s]+/).filter(Boolean)) {
    const at = word.indexOf("=");
    const name = word.slice(0, at);
    if (at < 1 || at === word.length - 1) return { problem: `\`${word}\` is no label: write name=value` };
    if (!/^[\p{L}\p{N}_]{1,63}$/u.test(name))
      return { problem: `\`${name}\` is no name of a label: letters, digits and underscores are` };
    if (name in found) return { problem: `\`${name}\` stands twice` };
    found[name] = word.slice(at + 1);
  }
  return { value: found };
}

export const writtenLabels = (found: Record<string, string>) =>
  Object.entries(found)
    .map(([name, value]) => `${name}=${value}`)
    .join(" ");

/** A name as programs want it, made of what somebody wrote: `Cold room 1` gives `cold-room-1`. */
export function properName(text: string, joint: "-" | "_"): string {
  return text
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, joint)
    .replace(/^[^a-z]+/, "")
    .replace(/[-_]+$/, "")
    .slice(0, 63);
}

const RULE = {
  "-": { form: /^[a-z][a-z0-9-]{1,62}$/, words: "small letters a-z, digits and hyphens, beginning with a letter" },
  _: { form: /^[a-z][a-z0-9_]{0,62}$/, words: "small letters a-z, digits and underscores, beginning with a letter" },
};

/** What is wrong with a name; `proposed`: one that would do. Null where it is well, or still empty. */
export function wrongName(text: string, joint: "-" | "_"): { problem: string; proposed: string } | null {
  if (text === "" || RULE[joint].form.test(text)) return null;
  return { problem: `A name has ${RULE[joint].words}.`, proposed: properName(text, joint) };
}
