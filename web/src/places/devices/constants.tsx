import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../../api/client";
import { At, TextField, Trouble } from "../../parts/basics";
import { Sure } from "../../parts/sure";
import { ofConstants } from "./queries";

/** What was written, as a value: a number, yes or no, else a text. */
function valueOf(text: string): number | boolean | string {
  const trimmed = text.trim();
  if (/^(true|false)$/.test(trimmed)) return trimmed === "true";
  return trimmed !== "" && Number.isFinite(Number(trimmed)) ? Number(trimmed) : trimmed;
}

/** Named values that the decoder uses for this one device, such as a calibration, each valid from a moment. */
export function Constants({ name, engineer }: { name: string; engineer: boolean }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [word, setWord] = useState("");
  const [value, setValue] = useState("");
  const [from, setFrom] = useState("");
  const list = useQuery(ofConstants(name));
  const again = () => client.invalidateQueries({ queryKey: ["constants", name] });
  const add = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/devices/{name}/constants", {
          params: { path: { name } },
          body: {
            name: word.trim(),
            value: valueOf(value) as never,
            ...(from ? { valid_from: new Date(from).toISOString() } : {}),
          },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      setWord("");
      setValue("");
      return again();
    },
  });
  const remove = useMutation({
    mutationFn: (ident: number) =>
      got(api.DELETE("/api/v1/devices/{name}/constants/{ident}", { params: { path: { name, ident } } })),
    onSuccess: again,
  });
  if (!engineer && !list.data?.length) return null;
  return (
    <section className="mt-5" aria-label="Constants">
      <h2 className="mb-1">
        Constants <span>· what the decoder uses for this device alone, such as a calibration</span>
      </h2>
      <ul className="rows">
        {list.data?.map((c) => (
          <li key={c.id} className="row-line flex items-center gap-3">
            <span className="w-40 truncate">{c.name}</span>
            <b>{String(c.value)}</b>
            <span className="text-[12.5px] text-second">
              from <At at={c.valid_from} />
            </span>
            {engineer && (
              <Sure className="link ml-auto" act={() => remove.mutate(c.id)}>
                remove
              </Sure>
            )}
          </li>
        ))}
      </ul>
      <Trouble error={list.error ?? add.error ?? remove.error} />
      {engineer &&
        (open ? (
          <form
            className="mt-2 grid grid-cols-[1fr_1fr_auto] items-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              add.mutate();
            }}
          >
            <TextField
              label="name, as the decoder has it"
              value={word}
              autoFocus
              onChange={(e) => setWord(e.target.value)}
            />
            <TextField label="value" value={value} onChange={(e) => setValue(e.target.value)} />
            <TextField
              label="valid from (your time; empty: now)"
              type="datetime-local"
              value={from}
              onChange={(e) => setFrom(e.target.value)}
            />
            <div className="col-span-3 flex gap-2">
              <button className="button strong" disabled={!word.trim() || !value.trim() || add.isPending}>
                Keep the constant
              </button>
              <button type="button" className="button" onClick={() => setOpen(false)}>
                Leave it
              </button>
            </div>
          </form>
        ) : (
          <button type="button" className="link mt-1" onClick={() => setOpen(true)}>
            {list.data?.length ? "another value" : "add one"}
          </button>
        ))}
    </section>
  );
}
