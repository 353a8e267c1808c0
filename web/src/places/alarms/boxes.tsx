import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { ofColleagues } from "../../api/queries";
import { Field, TextField, Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { Toggles } from "../../parts/filters";
import { exact, fromShown, toShown } from "../../parts/time";
import { counted } from "../../parts/words";
import type { Act } from "./acts";

export type Asked = { what: "shelve" | "assign" | "note"; alarms: number[] };
const HOUR = 3_600_000;
const FOR: [string, number][] = [
  ["1 hour", HOUR],
  ["8 hours", 8 * HOUR],
  ["1 day", 24 * HOUR],
  ["7 days", 168 * HOUR],
];
const TITLES = { shelve: "Shelve", assign: "Assign", note: "Note on" };

/** What an act wants to know before it is done: for how long and why, to whom, which words. */
export function ActBox({
  asked,
  close,
  run,
  busy,
  error,
}: {
  asked: Asked | null;
  close: () => void;
  run: (act: Act, done: () => void) => void;
  busy: boolean;
  error: unknown;
}) {
  return (
    <Dialog.Root open={asked !== null} onOpenChange={(open) => !open && close()}>
      {asked && <Form key={asked.what} asked={asked} close={close} run={run} busy={busy} error={error} />}
    </Dialog.Root>
  );
}

function Form({
  asked,
  close,
  run,
  busy,
  error,
}: {
  asked: Asked;
  close: () => void;
  run: (act: Act, done: () => void) => void;
  busy: boolean;
  error: unknown;
}) {
  const [until, setUntil] = useState(() => new Date(Date.now() + HOUR));
  const [hours, setHours] = useState("1 hour");
  const [words, setWords] = useState("");
  const [person, setPerson] = useState("");
  const people = useQuery({ ...ofColleagues(), enabled: asked.what === "assign" });
  const { alarms } = asked;
  const submit = () => {
    if (asked.what === "shelve") run({ act: "shelve", alarms, until: until.toISOString(), why: words }, close);
    else if (asked.what === "note") run({ act: "note", alarms, note: words }, close);
    else run({ act: "assign", alarms, person: person || null }, close);
  };
  return (
    <FormBox title={`${TITLES[asked.what]} ${counted(alarms.length, "alarm")}`} submit={submit}>
      {asked.what === "shelve" && (
        <>
          <p className="text-second">
            Nobody is called by this condition on {alarms.length > 1 ? "these devices" : "this device"} until then. It
            is evaluated on, and comes back by itself.
          </p>
          <Toggles
            label="For how long"
            value={hours}
            options={FOR.map(([word]) => [word, word])}
            onChange={(word) => {
              setHours(word);
              setUntil(new Date(Date.now() + (FOR.find(([w]) => w === word)?.[1] ?? HOUR)));
            }}
          />
          <Field label="Until" note={exact(until)}>
            {(id) => (
              <input
                id={id}
                type="datetime-local"
                className="input"
                value={toShown(until)}
                onChange={(e) => {
                  const next = fromShown(e.target.value);
                  if (next) {
                    setUntil(next);
                    setHours("");
                  }
                }}
              />
            )}
          </Field>
        </>
      )}
      {asked.what === "assign" && (
        <Field label="Who sees to it">
          {(id) => (
            <select id={id} autoFocus className="input" value={person} onChange={(e) => setPerson(e.target.value)}>
              <option value="">nobody</option>
              {people.data?.map((p) => (
                <option key={p.username} value={p.username}>
                  {p.name}
                </option>
              ))}
            </select>
          )}
        </Field>
      )}
      {asked.what !== "assign" && (
        <TextField
          label={asked.what === "shelve" ? "Why" : "What was it?"}
          autoFocus
          required
          maxLength={asked.what === "shelve" ? 300 : 1000}
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
      )}
      <Trouble error={error ?? people.error} />
      <div className="flex justify-end gap-2">
        <Dialog.Close className="button">Cancel</Dialog.Close>
        <button className="button strong" disabled={busy || (asked.what !== "assign" && !words.trim())}>
          {{ shelve: "Shelve", assign: "Assign", note: "Add the note" }[asked.what]}
        </button>
      </div>
    </FormBox>
  );
}
