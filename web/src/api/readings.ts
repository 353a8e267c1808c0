import { useEffect, useState } from "react";
import { connected } from "./socket";

export type Told = {
  device: string;
  at: string;
  received_at: string;
  message: string;
  values: Record<string, unknown>;
};
type Frame = { hello?: { after: string }; readings?: Told[]; after?: string; resync?: boolean; error?: string };
export type Newest = Record<string, { value: unknown; at: string; received_at: string; message: string }>;

/** The newest of each field, of what was known and of rows as they came. */
export function newer(known: Newest, rows: Told[]): Newest {
  const found = { ...known };
  for (const { values, at, received_at, message } of rows)
    for (const [field, value] of Object.entries(values)) {
      const old = found[field];
      if (!old || Date.parse(old.at) <= Date.parse(at)) found[field] = { value, at, received_at, message };
    }
  return found;
}

/** Follows the readings of a device: `told` is called with rows as they come, at most once a frame of the screen. */
export function follow(device: string, told: (rows: Told[]) => void): () => void {
  let after = "";
  let refused = false; // not to be told; the screen goes on by asking
  let drawing = 0;
  let waiting: Told[] = [];
  const draw = () => {
    drawing = 0;
    const rows = waiting;
    waiting = [];
    told(rows);
  };
  const leave = connected(
    () => `/live/readings/?${new URLSearchParams({ device, ...(after ? { after } : {}) }).toString()}`,
    (heard, well) => {
      const frame = heard as Frame;
      if (frame.error !== undefined) {
        refused = true;
        return;
      }
      well();
      after = frame.hello?.after ?? frame.after ?? after;
      if (!frame.readings?.length) return;
      // A screen that is not drawn keeps no more than the newest.
      waiting = waiting.length > 500 ? frame.readings : waiting.concat(frame.readings);
      drawing ||= requestAnimationFrame(draw);
    },
    (code) => !refused && code !== 4401,
  );
  return () => {
    cancelAnimationFrame(drawing);
    leave();
  };
}

/** The newest values of a device by field, as they come. */
export function useNewest(device: string, on: boolean): Newest {
  const [newest, setNewest] = useState<Newest>({});
  useEffect(() => {
    setNewest({});
    return on ? follow(device, (rows) => setNewest((known) => newer(known, rows))) : undefined;
  }, [device, on]);
  return newest;
}
