/** Times as people read them: in the viewer's zone, relative where that says more, exact on hover. */
let zone = "UTC";
export const setZone = (name: string) => {
  zone = name;
};

const parts = (options: Intl.DateTimeFormatOptions) =>
  new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });

export function zoneWord(at: Date = new Date()): string {
  const found = parts({ timeZoneName: "shortOffset" })
    .formatToParts(at)
    .find((p) => p.type === "timeZoneName");
  return (found?.value ?? zone).replace("GMT", "UTC").replace("-", "\u2212");
}

export const clock = (at: Date) => parts({ hour: "2-digit", minute: "2-digit", second: "2-digit" }).format(at);
export const minutes = (at: Date) => parts({ hour: "2-digit", minute: "2-digit" }).format(at);
export const day = (at: Date) => parts({ weekday: "short", day: "numeric" }).format(at).replace(",", "");
export const exact = (at: Date) =>
  `${parts({ weekday: "short", day: "numeric", month: "short", year: "numeric" }).format(at)} ${clock(at)} ${zoneWord(at)}`;

/** Short when today, with the day otherwise. */
export function when(at: Date, now: Date = new Date()): string {
  return day(at) === day(now) && Math.abs(now.getTime() - at.getTime()) < 86_400_000
    ? clock(at)
    : `${day(at)} ${minutes(at)}`;
}

export function lasting(seconds: number): string {
  const s = Math.max(0, Math.round(seconds));
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

export const ago = (at: Date, now: Date) => `${lasting((now.getTime() - at.getTime()) / 1000)} ago`;
