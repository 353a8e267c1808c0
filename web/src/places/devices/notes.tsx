import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ofNotes } from "../../api/queries";
import { At, Field, Trouble } from "../../parts/basics";
import type { Happened } from "../../parts/chart-drawing";
import { useKept, useLookback } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Sure } from "../../parts/sure";
import { fromShown, toShown, zoneWord } from "../../parts/time";

type Found = Schemas["NotesOut"];

/** Notes and published versions as charts draw them. */
export const happened = (found: Found | undefined): Happened[] => [
  ...(found?.results ?? []).map((n) => ({ at: Date.parse(n.at) / 1000, word: n.text })),
  ...(found?.versions ?? []).map((v) => ({ at: Date.parse(v.at) / 1000, word: `decoder version ${v.number}` })),
];

/** What people have to say about a device in the lookback, each at its moment; drawn in its charts as well. */
export function Notes({ name }: { name: string }) {
  const lookback = useLookback();
  const kept = useKept();
  const client = useQueryClient();
  const operator = useMay("operator");
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [at, setAt] = useState("");
  const list = useQuery(ofNotes(lookback, name));
  const again = () => client.invalidateQueries({ queryKey: ["notes", name] });
  const add = useMutation({
    mutationFn: () => {
      const moment = at ? fromShown(at) : null;
      const body = { text, ...(moment ? { at: moment.toISOString() } : {}) };
      return got(api.POST("/api/v1/devices/{name}/notes", { params: { path: { name } }, body }));
    },
    onSuccess: () => {
      setOpen(false);
      setText("");
      return again();
    },
  });
  const remove = useMutation({
    mutationFn: (ident: number) =>
      got(api.DELETE("/api/v1/devices/{name}/notes/{ident}", { params: { path: { name, ident } } })),
    onSuccess: again,
  });
  const notes = list.data?.results ?? [];
  const versions = list.data?.versions ?? [];
  if (!operator && !notes.length && !versions.length) return null;
  return (
    <section className="mt-5" aria-label="Notes">
      <h2 className="mb-1">
        Notes <span>· what happened in the lookback, also in the charts</span>
      </h2>
      <ul className="rows">
        {notes.map((n) => (
          <li key={n.id} className="row-line flex flex-wrap items-baseline gap-x-3 py-1">
            <span className="font-mono text-[12.5px]">
              <At at={n.at} />
            </span>
            <span className="min-w-0 break-words">{n.text}</span>
            <span className="text-[12.5px] text-second">{n.who}</span>
            {n.own && operator && (
              <Sure className="link ml-auto text-second" act={() => remove.mutate(n.id)}>
                remove
              </Sure>
            )}
          </li>
        ))}
        {versions.map((v) => (
          <li key={`v${v.number}`} className="row-line flex flex-wrap items-baseline gap-x-3 py-1">
            <span className="font-mono text-[12.5px]">
              <At at={v.at} />
            </span>
            <Link className="link" to={kept(`/decoders/${v.definition}`)}>
              decoder version {v.number}
            </Link>
            <span className="text-[12.5px] text-second">{v.why}</span>
          </li>
        ))}
      </ul>
      {(list.data?.count ?? 0) > notes.length && (
        <p className="text-second">
          The newest {notes.length} of {list.data?.count} are shown.
        </p>
      )}
      <Trouble error={list.error ?? add.error ?? remove.error} />
      {operator &&
        (open ? (
          <form
            className="mt-2 flex flex-col gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              add.mutate();
            }}
          >
            <Field label="Note">
              {(id) => (
                <textarea
                  id={id}
                  className="input min-h-14"
                  maxLength={500}
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                />
              )}
            </Field>
            <Field label={`Of which moment, ${zoneWord()}`}>
              {(id) => (
                <input
                  id={id}
                  type="datetime-local"
                  className="input"
                  value={at}
                  onChange={(e) => setAt(e.target.value)}
                />
              )}
            </Field>
            <p className="flex gap-3">
              <button type="submit" className="button strong" disabled={!text.trim() || add.isPending}>
                Write it
              </button>
              <button type="button" className="button" onClick={() => setOpen(false)}>
                Cancel
              </button>
            </p>
          </form>
        ) : (
          <button
            type="button"
            className="link mt-1"
            onClick={() => {
              setAt(toShown(lookback.to ?? new Date()));
              setOpen(true);
            }}
          >
            Write a note
          </button>
        ))}
    </section>
  );
}
