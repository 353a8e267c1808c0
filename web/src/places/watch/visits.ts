const APART_MS = 30 * 60_000;
const nameOf = (person: string) => `oculum.visits.${person}`;

type Kept = { now: number; before: number | null };

function kept(person: string): Kept | null {
  try {
    const found = JSON.parse(localStorage.getItem(nameOf(person)) ?? "null") as Kept | null;
    return found && typeof found.now === "number" ? found : null;
  } catch {
    return null;
  }
}

/** When a person looked here the last time before this one: looks within half an hour are one visit. */
export function lastVisit(person: string): Date | null {
  const found = kept(person);
  if (!found) return null;
  const before = Date.now() - found.now > APART_MS ? found.now : found.before;
  return before === null ? null : new Date(before);
}

/** Keeps that a person looks now, in this browser. */
export function visited(person: string): void {
  const before = lastVisit(person)?.getTime() ?? null;
  try {
    localStorage.setItem(nameOf(person), JSON.stringify({ now: Date.now(), before }));
  } catch {
    // a browser that keeps nothing has no last visit
  }
}
