import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { At, TextField } from "../../parts/basics";
import { KeptForm, Pane } from "./pane";
import { ifMatch, ofContacts, ofShifts } from "./queries";

type Shift = Schemas["ShiftOut"];

/** Hand-overs that are sent by themselves: what Watch says, at times of day. */
export function Shifts({ engineer }: { engineer: boolean }) {
  const shifts = useQuery(ofShifts());
  const contacts = useQuery(ofContacts());
  const [chosen, choose] = useState<number | null>(null);
  const names = new Map((contacts.data ?? []).map((c) => [c.id, c.name]));
  return (
    <Pane
      found={shifts}
      what="Hand-overs"
      none="What Watch says is sent to contacts at times of day: what needs a hand, what fades, what is new."
      chosen={chosen}
      choose={choose}
      engineer={engineer}
      add="Add a hand-over"
      about={(s) => {
        const who = s.contacts.map((k) => names.get(k) ?? "?").join(", ");
        return `${s.on ? "" : "switched off · "}at ${s.at.join(", ")} to ${who}`;
      }}
    >
      {(shift) =>
        contacts.data && (
          <ShiftForm
            key={`${shift?.id ?? 0} ${shift?.revision ?? 0}`}
            shift={shift}
            contacts={contacts.data}
            engineer={engineer}
            done={choose}
          />
        )
      }
    </Pane>
  );
}

function ShiftForm({
  shift,
  contacts,
  engineer,
  done,
}: {
  shift: Shift | undefined;
  contacts: Schemas["ContactOut"][];
  engineer: boolean;
  done: (id: number) => void;
}) {
  const client = useQueryClient();
  const [name, setName] = useState(shift?.name ?? "");
  const [on, setOn] = useState(shift?.on ?? true);
  const [at, setAt] = useState(shift?.at ?? ["06:00"]);
  const [zone, setZone] = useState(shift?.zone ?? new Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [hours, setHours] = useState(shift?.hours ?? 24);
  const [told, setTold] = useState(shift?.contacts ?? []);
  const body = { name, on, at, zone, hours, contacts: told };
  const now = useMutation({
    mutationFn: () => got(api.POST("/api/v1/shifts/{ident}/send", { params: { path: { ident: shift?.id ?? 0 } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["shifts"] }),
  });
  return (
    <KeptForm
      thing={shift}
      queryKey="shifts"
      engineer={engineer}
      keep={() =>
        shift
          ? got(
              api.PATCH("/api/v1/shifts/{ident}", {
                params: { path: { ident: shift.id } },
                headers: ifMatch(shift.revision),
                body,
              }),
            )
          : got(api.POST("/api/v1/shifts", { body }))
      }
      drop={(old) => got(api.DELETE("/api/v1/shifts/{ident}", { params: { path: { ident: old.id } } }))}
      kept={done}
      trouble={now.error}
    >
      <div className="flex items-end gap-4">
        <TextField label="Name" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        <label className="flex min-h-8 items-center gap-2">
          <input type="checkbox" checked={on} onChange={(e) => setOn(e.target.checked)} /> in use
        </label>
      </div>
      <fieldset className="flex flex-wrap items-center gap-2">
        <legend className="text-[12.5px] text-second">When, and over how much of the past</legend>
        {at.map((text, i) => (
          <span key={i} className="flex items-center gap-1">
            <input
              type="time"
              required
              className="input !w-28"
              aria-label={`Time of day ${i + 1}`}
              value={text}
              onChange={(e) => setAt(at.map((old, k) => (k === i ? e.target.value : old)))}
            />
            {at.length > 1 && (
              <button
                type="button"
                className="link"
                aria-label={`Leave out ${text}`}
                onClick={() => setAt(at.filter((_, k) => k !== i))}
              >
                ×
              </button>
            )}
          </span>
        ))}
        {at.length < 6 && (
          <button type="button" className="link" onClick={() => setAt([...at, "18:00"])}>
            one more time
          </button>
        )}
      </fieldset>
      <div className="flex flex-wrap items-end gap-4">
        <TextField label="Zone of the clock" required value={zone} onChange={(e) => setZone(e.target.value)} />
        <label className="grid gap-1">
          <span className="text-[12.5px] text-second">Hours before it</span>
          <input
            className="input !w-24"
            inputMode="numeric"
            value={hours}
            onChange={(e) => setHours(Number(e.target.value) || 0)}
          />
        </label>
      </div>
      <fieldset className="flex flex-wrap gap-x-4">
        <legend className="text-[12.5px] text-second">To whom · of a duty whoever has it then</legend>
        {contacts.map((c) => (
          <label key={c.id} className="flex min-h-7 items-center gap-1.5">
            <input
              type="checkbox"
              checked={told.includes(c.id)}
              onChange={() => setTold(told.includes(c.id) ? told.filter((k) => k !== c.id) : [...told, c.id])}
            />
            {c.name}
          </label>
        ))}
        {contacts.length === 0 && <span className="text-second">There are no contacts yet: add one first.</span>}
      </fieldset>
      {shift && (
        <section>
          <h3 className="mb-1 text-[12.5px] text-second">
            {shift.last.length ? "The last ones" : "None has been sent yet"}
          </h3>
          <ul className="rows" aria-label="Sent">
            {shift.last.map((one, k) => (
              <li key={k} className="row-line flex gap-3">
                <At at={one.due_at} />
                <span className={one.state === "delivered" ? "" : "font-bold"}>{one.state}</span>
                <span className="truncate text-second">
                  {one.to} by {one.outlet}
                  {one.why && `: ${one.why}`}
                </span>
              </li>
            ))}
          </ul>
          {engineer && (
            <button type="button" className="button small mt-2" disabled={now.isPending} onClick={() => now.mutate()}>
              Send one now
            </button>
          )}
        </section>
      )}
    </KeptForm>
  );
}
