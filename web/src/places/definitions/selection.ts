/** Devices as a person writes which are meant: labels as text, a site, a share in percent. */
export type Chosen = { labels: string; site: string; share: string };

/** `name=value, name=value` as an object; null where it is something else. */
export function parsed(labels: string): Record<string, string> | null {
  const found: Record<string, string> = {};
  for (const part of labels.split(",").map((p) => p.trim())) {
    if (!part) continue;
    const [name, ...rest] = part.split("=").map((p) => p.trim());
    if (!name || rest.length !== 1 || !rest[0]) return null;
    found[name] = rest[0];
  }
  return found;
}

/** What the server is asked. */
export const ask = (chosen: Chosen) => ({
  labels: parsed(chosen.labels) ?? {},
  site: chosen.site || null,
  share: Math.min(Math.max(Math.round(Number(chosen.share) || 100), 1), 100),
});
