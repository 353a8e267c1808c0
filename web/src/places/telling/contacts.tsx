import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { TextField, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { ownZone } from "../../parts/time";
import { counted } from "../../parts/words";
import { KeptForm, Pane } from "./pane";
import { type DaysOff, type Rota, RotaFields, Spans, today } from "./rota";
import { ifMatch, ofContacts, ofOutlets } from "./queries";

type Contact = Schemas["ContactOut"];
type Address = { outlet: number; to: string };

/** People and duties that are told, each with addresses. */
export function Contacts({ engineer }: { engineer: boolean }) {
  const contacts = useQuery(ofContacts());
  const outlets = useQuery(ofOutlets());
  const [chosen, choose] = useState<number | null>(null);
  return (
    <Pane
      found={contacts}
      what="Contacts"
      none="A contact is somebody, or a duty, with the addresses at which they are told. Add an outlet first."
      chosen={chosen}
      choose={choose}
      engineer={engineer}
      add="Add a contact"
      about={(c) =>
        c.rota
          ? `a duty by the week, now ${c.on_duty ?? "nobody"}`
          : `${counted((c.addresses as Address[]).length, "address").replace("addresss", "addresses")}, ${c.zone}`
      }
    >
      {(contact) =>
        outlets.data ? (
          <ContactForm
            key={contact?.id ?? 0}
            contact={contact}
            ways={outlets.data.filter((o) => o.kind !== "file")}
            engineer={engineer}
            done={choose}
          />
        ) : outlets.error ? (
          <Trouble error={outlets.error} retry={() => void outlets.refetch()} />
        ) : (
          <Waiting what="the outlets" />
        )
      }
    </Pane>
  );
}

function ContactForm({
  contact,
  ways,
  engineer,
  done,
}: {
  contact: Contact | undefined;
  ways: Schemas["OutletOut"][];
  engineer: boolean;
  done: (id: number) => void;
}) {
  const [name, setName] = useState(contact?.name ?? "");
  const [zone, setZone] = useState(contact?.zone ?? ownZone());
  const contacts = useQuery(ofContacts());
  const first = ways[0]?.id ?? 0;
  const [addresses, setOwn] = useState<Address[]>(
    (contact?.addresses as Address[] | undefined) ?? [{ outlet: first, to: "" }],
  );
  const [off, setOff] = useState<DaysOff[]>((contact?.days_off as DaysOff[] | undefined) ?? []);
  const [rota, setRota] = useState<Rota | null>((contact?.rota as Rota | null | undefined) ?? null);
  const people = (contacts.data ?? []).filter((c) => !c.rota && c.id !== contact?.id);
  const put = (index: number, change: Partial<Address>) =>
    setOwn(addresses.map((a, i) => (i === index ? { ...a, ...change } : a)));
  const body = rota
    ? { name, zone, addresses: [], days_off: [], rota }
    : { name, zone, addresses, days_off: off, rota: null };
  const keep = () =>
    contact
      ? got(
          api.PATCH("/api/v1/contacts/{ident}", {
            params: { path: { ident: contact.id } },
            headers: ifMatch(contact.revision),
            body,
          }),
        )
      : got(api.POST("/api/v1/contacts", { body }));
  return (
    <KeptForm
      thing={contact}
      queryKey="contacts"
      engineer={engineer}
      keep={keep}
      drop={(old) => got(api.DELETE("/api/v1/contacts/{ident}", { params: { path: { ident: old.id } } }))}
      kept={done}
      trouble={contacts.error}
    >
      <TextField label="Name" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
      <TextField
        label="Time zone"
        note="of quiet hours, days off and weeks"
        value={zone}
        onChange={(e) => setZone(e.target.value)}
      />
      <label className="flex min-h-8 items-center gap-2">
        <input
          type="checkbox"
          checked={rota !== null}
          disabled={!engineer || (rota === null && people.length === 0)}
          onChange={(e) =>
            setRota(
              e.target.checked
                ? { begins: today(), at: "08:00", weeks: people.slice(0, 2).map((c) => c.id), exceptions: [] }
                : null,
            )
          }
        />{" "}
        a duty that others have by the week
        {contact?.on_duty && rota && (
          <span className="text-second">
            now <b className="text-ink">{contact.on_duty}</b>
          </span>
        )}
      </label>
      {rota && <RotaFields rota={rota} change={setRota} contacts={people} editable={engineer} />}
      {!rota && <Spans label="Days off" add="days off" spans={off} change={setOff} editable={engineer} />}
      <fieldset className="grid gap-2" hidden={rota !== null}>
        <legend className="text-[12.5px] text-second">Told at</legend>
        {addresses.map((a, i) => (
          <div key={i} className="flex items-center gap-2">
            <Pick
              label={`Outlet ${i + 1}`}
              value={a.outlet}
              options={ways.map((o) => [o.id, o.name])}
              onChange={(v) => put(i, { outlet: Number(v) })}
            />
            <input
              className="input min-w-0 flex-1"
              aria-label={`Address ${i + 1}`}
              placeholder="a mail address; for a webhook or a broker nothing, or another one"
              value={a.to}
              onChange={(e) => put(i, { to: e.target.value })}
            />
            {addresses.length > 1 && (
              <button type="button" className="link" onClick={() => setOwn(addresses.filter((_, k) => k !== i))}>
                drop
              </button>
            )}
          </div>
        ))}
        {engineer && (
          <button
            type="button"
            className="link justify-self-start"
            onClick={() => setOwn([...addresses, { outlet: first, to: "" }])}
          >
            one more address
          </button>
        )}
      </fieldset>
    </KeptForm>
  );
}
