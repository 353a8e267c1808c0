import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, got, Refusal, type Schemas } from "../../api/client";
import { ofFences, ofLanguage, ofSites } from "../../api/queries";
import type { Words } from "../../parts/editor";
import { useAskBeforeLeaving } from "../../parts/unsaved";
import { ofTables } from "../routes/queries";
import { ofOutlets } from "../telling/queries";
import { ofDefinition, ofCheck } from "./queries";

export type Definition = Schemas["DefinitionOut"];

const CARRIED = 60_000; // bytes

/** A value that follows another after it has stood still for a while. */
export function useSettled<T>(value: T, ms = 250): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), ms);
    return () => window.clearTimeout(timer);
  }, [value, ms]);
  return settled;
}

/** The draft of a definition: kept on the server as it is written, checked as it is written. */
export function useDraft(id: number) {
  const client = useQueryClient();
  const definition = useQuery(ofDefinition(id));
  const [text, setText] = useState<string | null>(null);
  const number = useRef(0);
  const base = useRef<number | null>(null); // the newest version when this text was begun
  const kept = useRef("");
  useEffect(() => {
    if (definition.data && text === null) {
      const start = definition.data.draft || definition.data.live?.text || "";
      setText(start);
      number.current = definition.data.draft_number;
      base.current = definition.data.last_number ?? 0;
      kept.current = start;
    }
  }, [definition.data, text]);
  const settled = useSettled(text ?? "", 300);
  const kind = definition.data?.kind ?? "decoder";
  const type = definition.data?.type ?? null;
  const check = useQuery({
    ...ofCheck(kind, settled, type),
    enabled: Boolean(definition.data) && text !== null,
    placeholderData: (old) => old,
  });
  const save = useMutation({
    mutationFn: async (draft: string) => {
      const params = { path: { ident: id } };
      try {
        return await got(
          // It arrives also where the whole page is left meanwhile; browsers carry up to 64 kB for that.
          api.PATCH("/api/v1/definitions/{ident}", {
            params,
            body: { draft, draft_number: number.current },
            keepalive: new Blob([draft]).size < CARRIED,
          }),
        );
      } catch (error) {
        // What was kept although its answer was lost is not somebody else's.
        if (theirsOf(error)?.text !== draft) throw error;
        return await got(api.GET("/api/v1/definitions/{ident}", { params }));
      }
    },
    onSuccess: (saved, draft) => {
      number.current = saved.draft_number;
      kept.current = draft;
      client.setQueryData(["definition", id], saved);
    },
    scope: { id: `draft ${id}` }, // one after the other, also when the screen is left meanwhile
    retry: (_, error) => passing(error),
    retryDelay: (times) => Math.min(500 * 2 ** times, 10_000),
  });
  const { mutate, isPending } = save;
  const conflict = theirsOf(save.error) !== null;
  const forbidden = save.error instanceof Refusal && save.error.status === 403;
  const refused = save.isError && save.variables === settled; // the same text would be refused again
  useEffect(() => {
    if (text !== null && settled !== kept.current && settled === text)
      if (!isPending && !conflict && !forbidden && !refused) mutate(settled);
  }, [settled, text, isPending, mutate, conflict, forbidden, refused]);
  const latest = useRef<{ text: string; ahead: number } | null>(null);
  useEffect(() => {
    latest.current = text === null || conflict || forbidden || refused ? null : { text, ahead: isPending ? 2 : 1 };
  }, [text, conflict, forbidden, refused, isPending]);
  useEffect(
    () => () => {
      // Leaving the screen before the text has stood still for a while: it is saved, and there on coming back at once.
      const last = latest.current;
      if (last === null || last.text === kept.current) return;
      const draft_number = number.current + last.ahead;
      client.setQueryData<Definition>(["definition", id], (old) => old && { ...old, draft: last.text, draft_number });
      mutate(last.text);
    },
    [mutate, client, id],
  );
  const trouble = conflict || forbidden ? null : (save.failureReason ?? save.error);
  const publish = useMutation({
    mutationFn: ({
      why,
      despite,
      first,
    }: {
      why: string;
      despite: boolean;
      first: Schemas["SelectionInRequest"] | null;
    }) =>
      got(
        api.POST("/api/v1/definitions/{ident}/publish", {
          params: { path: { ident: id } },
          body: {
            text: text ?? "",
            why,
            despite_cases: despite,
            first,
            base: base.current,
            draft_number: number.current,
          },
        }),
      ),
    onSuccess: async (made) => {
      number.current = made.draft_number;
      base.current = made.last_number ?? base.current;
      kept.current = made.draft ?? "";
      setText(made.draft ?? "");
      await client.invalidateQueries({
        predicate: (q) =>
          ["definition", "definitions", "types", "overview", "device", "versions", "rollout", "runs"].includes(
            String(q.queryKey[0]),
          ),
      });
    },
  });
  const late = theirsOf(save.error) ?? theirsOf(publish.error);
  const settle = (choose: (theirs: Theirs) => void) => () => {
    if (!late) return;
    number.current = late.draft_number;
    base.current = late.version ?? base.current;
    choose(late);
    save.reset();
    publish.reset();
  };
  const overtaken = late && {
    sentence: late.sentence,
    text: late.text,
    keepMine: settle((theirs) => {
      kept.current = theirs.text; // so that the own text is saved over it
    }),
    takeTheirs: settle((theirs) => {
      kept.current = theirs.text;
      setText(theirs.text);
    }),
  };
  useAskBeforeLeaving(trouble !== null);
  const format = useMutation({
    mutationFn: () => got(api.POST("/api/v1/format", { body: { text: text ?? "" } })),
    onSuccess: (found) => setText(found.text),
  });
  const problems = check.data?.problems ?? [];
  const errors = problems.filter((p) => p.severity === "error");
  // What the check says belongs to the text that is settled, and is not that of the one before.
  const sound = !check.isPlaceholderData && errors.length === 0 && Boolean(check.data?.good);
  const upToDate = settled === text && !check.isFetching;
  // A draft of which only the head stands is not wrong: it is not begun.
  const begun = !/^\s*(decoder|condition|route)\b[^\n]*\s*$/.test(text ?? "");
  return {
    definition,
    text: text ?? "",
    setText,
    settled,
    check,
    save,
    publish,
    format,
    problems: begun ? problems : NONE,
    errors,
    begun,
    saved: text !== null && text === (definition.data?.draft || definition.data?.live?.text || ""),
    upToDate,
    sound,
    ready: text !== null,
    overtaken,
    unsaved: trouble ? `Not saved yet: ${trouble.message}` : null,
  };
}

const NONE: Schemas["ProblemOut"][] = [];

/** Whether what went wrong is the server's, and may be over in a moment. */
const passing = (error: Error) =>
  !(error instanceof Refusal) || error.status === 0 || error.status === 429 || error.status >= 500;

type Theirs = { text: string; draft_number: number; version: number | null; sentence: string };

/** What somebody else has kept or published meanwhile, where that is why a request was refused. */
function theirsOf(error: unknown): Theirs | null {
  if (!(error instanceof Refusal) || error.code !== "changed meanwhile" || !error.more.theirs) return null;
  return { ...(error.more.theirs as Omit<Theirs, "sentence">), sentence: error.message };
}

export function useWords(kind: string, fields: string[], setpoints: string[], types: string[]): Words {
  const language = useQuery(ofLanguage());
  const places = usePlaces(kind !== "decoder");
  const known = useKnown(kind === "route");
  return {
    functions: language.data?.functions.filter((f) => f.kind === kind) ?? [],
    places: [...places, ...known],
    checks: language.data?.checks ?? [],
    units: language.data?.units ?? [],
    fields,
    setpoints,
    types,
  };
}

/** Outlets and reference tables, which routes call by their names. */
function useKnown(asked: boolean): Words["places"] {
  const outlets = useQuery({ ...ofOutlets(), enabled: asked });
  const tables = useQuery({ ...ofTables(), enabled: asked });
  return [
    ...(outlets.data ?? []).filter((o) => o.kind !== "mail").map(({ name }) => ({ name, what: "outlet" })),
    ...(tables.data ?? []).map(({ name }) => ({ name, what: "reference table" })),
  ];
}

/** Sites and fences, which conditions call by their names. */
function usePlaces(asked: boolean): Words["places"] {
  const sites = useQuery({ ...ofSites(), enabled: asked });
  const fences = useQuery({ ...ofFences(), enabled: asked });
  return [
    ...(sites.data?.results ?? []).map(({ name }) => ({ name, what: "site" })),
    ...(fences.data?.results ?? []).map(({ name }) => ({ name, what: "fence" })),
  ];
}
