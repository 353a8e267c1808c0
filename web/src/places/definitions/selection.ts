import { useQuery } from "@tanstack/react-query";
import { ofRollout } from "./queries";

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

/** Labels as a person writes them, one by one. */
export const written = (labels: Record<string, string>) => Object.entries(labels).map(([k, v]) => `${k}=${v}`);

/** The rollout of a decoder, asked for again while one is under way; null where there is none to ask for. */
export const useRollout = (id: number | null) =>
  useQuery({ ...ofRollout(id), enabled: id !== null, refetchInterval: (q) => (q.state.data?.number ? 5_000 : false) });

/** What the server is asked. */
export const ask = (chosen: Chosen) => ({
  labels: parsed(chosen.labels) ?? {},
  site: chosen.site || null,
  share: Math.min(Math.max(Math.round(Number(chosen.share) || 100), 1), 100),
});
