/** Times as people read them: in the zone that the person chose, relative where that says more, exact on hover. */
let zone = "UTC";
let formats = new Map<string, Intl.DateTimeFormat>();

/** The zone of this browser. */
export const ownZone = () => new Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

/** The zone in which all times are shown, by its IANA name; empty: this browser's. */
export const setZone = (name: string) => {
  const next = name || ownZone();
  if (next === zone) return;
  zone = next;
  formats = new Map();
};

function parts(options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = JSON.stringify(options);
  let found = formats.get(key);
  if (!found) {
    found = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });
    formats.set(key, found);
  }
  return found;
}

/** A zone as its distance from UTC at a moment: "UTC−2". `name`: another one than that of the screen. */
export function zoneWord(at: Date = new Date(), name: string = zone): string {
  const format =
    name === zone
      ? parts({ timeZoneName: "shortOffset" })
      : new Intl.DateTimeFormat("en-GB", { timeZone: name || ownZone(), timeZoneName: "shortOffset" });
  const found = format.formatToParts(at).find((p) => p.type === "timeZoneName");
  return (found?.value ?? zone).replace(/^GMT(\+0$)?/, "UTC").replace("-", "\u2212");
}

export const clock = (at: Date) => parts({ hour: "2-digit", minute: "2-digit", second: "2-digit" }).format(at);
export const minutes = (at: Date) => parts({ hour: "2-digit", minute: "2-digit" }).format(at);
const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
const DAY = 24 * HOUR;
const NEAR = 25 * DAY; // so long a day is known by its weekday and number
const SAME_YEAR = 300 * DAY;

/** A day: "Mon 2" where it is near, else "2 Mar", or "2 Mar 2025". */
export function day(at: Date, now: Date = new Date()): string {
  const off = Math.abs(now.getTime() - at.getTime());
  return off < NEAR ? weekday(at) : dated(at, off >= SAME_YEAR);
}

const weekday = (at: Date) => parts({ weekday: "short", day: "numeric" }).format(at).replace(",", "");
const dated = (at: Date, year: boolean) =>
  parts({ day: "numeric", month: "short", ...(year ? { year: "numeric" as const } : {}) }).format(at);
export const exact = (at: Date) => {
  const whole = parts({ weekday: "short", day: "numeric", month: "short", year: "numeric" }).format(at);
  return `${whole} ${clock(at)} ${zoneWord(at)}`;
};

/** The time of day in another zone, with its distance from UTC. */
export function minutesIn(at: Date, name: string): string {
  const format = new Intl.DateTimeFormat("en-GB", {
    timeZone: name,
    hourCycle: "h23",
    hour: "2-digit",
    minute: "2-digit",
  });
  return `${format.format(at)} ${zoneWord(at, name)}`;
}

/** Short when today, with the day otherwise. */
export function when(at: Date, now: Date = new Date()): string {
  return sameDay(at, now) ? clock(at) : `${day(at, now)} ${minutes(at)}`;
}

const date = (at: Date) => parts({ year: "numeric", month: "numeric", day: "numeric" }).format(at);
export const sameDay = (a: Date, b: Date) => date(a) === date(b);

/** What the clocks of the zone show at a moment, as if it were UTC. */
function shownAt(at: number): number {
  const found: Record<string, number> = {};
  const format = parts({
    year: "numeric",
    month: "numeric",
    day: "numeric",
    hour: "numeric",
    minute: "numeric",
    second: "numeric",
  });
  for (const part of format.formatToParts(new Date(at))) found[part.type] = Number(part.value);
  const { year = 0, month = 1, day = 1, hour = 0, minute = 0, second = 0 } = found;
  return Date.UTC(year, month - 1, day, hour, minute, second);
}

/** The moment at which the clocks of the zone show what is given as if it were UTC. */
function momentOf(shown: number): number {
  const first = shown - (shownAt(shown) - shown);
  return first + shown - shownAt(first);
}

/** A moment as the clocks of the zone show it, for an input of date and time. */
export const toShown = (at: Date) => new Date(shownAt(at.getTime())).toISOString().slice(0, 16);

/** The moment that such an input stands for; null where it is empty. */
export function fromShown(text: string): Date | null {
  const shown = Date.parse(`${text}Z`);
  return Number.isNaN(shown) ? null : new Date(momentOf(shown));
}

const STRIDES = [
  ...[1, 2, 5, 10, 30].map((n) => n * MINUTE),
  ...[1, 2, 3, 6, 12].map((n) => n * HOUR),
  ...[1, 2, 5, 10].map((n) => n * DAY),
];

/** Moments to mark on an axis of time (ms), at most `most`: whole hours, midnights or first days of months of the zone
 * shown.
 */
export function ticks(from: number, to: number, most: number): number[] {
  const stride = STRIDES.find((s) => (to - from) / s <= most);
  if (!stride) return firstDays(from, to, most);
  const found: number[] = [];
  const days = Math.max(1, stride / DAY);
  for (let n = Math.floor(shownAt(from) / DAY); ; n += 1) {
    const midnight = momentOf(n * DAY);
    if (midnight > to) return found;
    if (n % days !== 0) continue;
    const next = stride >= DAY ? midnight + 1 : momentOf((n + 1) * DAY);
    for (let t = midnight; t < next; t += stride) if (t >= from && t <= to) found.push(t);
  }
}

/** First days of months, of every month, or every second, third, ... */
function firstDays(from: number, to: number, most: number): number[] {
  const every = [1, 2, 3, 6].find((n) => (to - from) / (n * 30 * DAY) <= most) ?? 12;
  const begin = new Date(shownAt(from));
  const found: number[] = [];
  for (let month = begin.getUTCMonth(); ; month += 1) {
    const first = new Date(Date.UTC(begin.getUTCFullYear(), month));
    const at = momentOf(first.getTime());
    if (at > to) return found;
    if (at >= from && first.getUTCMonth() % every === 0) found.push(at);
  }
}

/** A tick in words: a day at its midnight, "today" for the one that is, else the time of day. */
export function tickWord(at: number, now: Date = new Date()): string {
  const shown = shownAt(at);
  if (shown % DAY !== 0) return minutes(new Date(at));
  if (sameDay(new Date(at), now)) return "today";
  return new Date(shown).getUTCDate() === 1 ? dated(new Date(at), false) : day(new Date(at), now);
}

/** A moment on an axis: with its day where the axis is longer than one. `spanMs`: its length. */
export function onAxis(at: Date, spanMs: number): string {
  if (spanMs <= DAY) return clock(at);
  return `${spanMs < NEAR ? weekday(at) : dated(at, spanMs >= SAME_YEAR)} ${minutes(at)}`;
}

export function lasting(seconds: number): string {
  const s = Math.max(0, Math.round(seconds));
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  const [size, word, less, lesser] = s < 86400 ? [3600, "h", 60, "min"] : [86400, "d", 3600, "h"];
  const rest = Math.floor((s % Number(size)) / Number(less));
  return `${Math.floor(s / Number(size))} ${word}${rest ? ` ${rest} ${lesser}` : ""}`;
}

export const ago = (at: Date, now: Date) => `${lasting((now.getTime() - at.getTime()) / 1000)} ago`;
