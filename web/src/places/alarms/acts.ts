import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";

export type Alarm = Schemas["AlarmOut"];
export const STALE = ["alarms", "alarm", "journal", "overview", "devices", "device", "why", "quality"];

export type Act =
  | { act: "acknowledge"; alarms: number[] }
  | { act: "give back"; alarms: number[] }
  | { act: "note"; alarms: number[]; note: string }
  | { act: "shelve"; alarms: number[]; until: string; why: string }
  | { act: "unshelve"; alarms: number[] }
  | { act: "assign"; alarms: number[]; person: string | null };

function send(asked: Act): Promise<Schemas["ActOut"]> {
  const { alarms } = asked;
  switch (asked.act) {
    case "acknowledge":
      return got(api.POST("/api/v1/alarms/acknowledge", { body: { alarms } }));
    case "give back":
      return got(api.POST("/api/v1/alarms/give-back", { body: { alarms } }));
    case "note":
      return got(api.POST("/api/v1/alarms/note", { body: { alarms, note: asked.note } }));
    case "shelve":
      return got(api.POST("/api/v1/alarms/shelve", { body: { alarms, until: asked.until, why: asked.why } }));
    case "unshelve":
      return got(api.POST("/api/v1/alarms/unshelve", { body: { alarms } }));
    case "assign":
      return got(api.POST("/api/v1/alarms/assign", { body: { alarms, person: asked.person } }));
  }
}

const BACK = { acknowledge: "give back", shelve: "unshelve" } as const;
const WORDS = { acknowledge: "You took", shelve: "You shelved" } as const;

/** What people do with alarms, one or many; the last act that can be undone is remembered. */
export function useActs() {
  const client = useQueryClient();
  const [last, setLast] = useState<{ undo: Act; word: string; alarms: Alarm[]; refused: number } | null>(null);
  const work = useMutation({
    mutationFn: send,
    onSuccess: (found, asked) => {
      if (asked.act === "acknowledge" || asked.act === "shelve")
        setLast({
          undo: { act: BACK[asked.act], alarms: found.alarms.map((a) => a.id) },
          word: WORDS[asked.act],
          alarms: found.alarms,
          refused: found.refused.length,
        });
      else if (last && asked.act === last.undo.act) setLast(null);
      return client.invalidateQueries({ predicate: (q) => STALE.includes(String(q.queryKey[0])) });
    },
  });
  return {
    run: (asked: Act, done?: () => void) => work.mutate(asked, { onSuccess: () => done?.() }),
    undo: () => last && work.mutate(last.undo),
    last,
    busy: work.isPending,
    error: work.error,
  };
}

/** The state of an alarm in the words of ANSI/ISA-18.2. */
export function stateOf(a: Alarm): string {
  if (a.suppressed) return "suppressed";
  if (a.cleared_at) return a.acknowledged_at ? "normal" : "returned, unacknowledged";
  if (a.shelved_until) return "shelved";
  return a.acknowledged_at ? "acknowledged" : "unacknowledged";
}
