import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { ofSites, ofDefinitions } from "../../api/queries";
import { TextField } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { PRIORITIES, PriorityMark } from "../../parts/marks";
import { lasting } from "../../parts/time";
import { KeptForm, Pane } from "./pane";
import { ifMatch, ofChains, ofContacts } from "./queries";

type Chain = Schemas["ChainOut"];
type Step = { after_s: number; contacts: number[] };
type Quiet = { from: string; to: string; but: string[] };
const TELLS = ["raised", "priority risen", "cleared", "still open"] as const;

/** Who is told, after how long, until somebody has taken the alarm. */
export function Chains({ engineer }: { engineer: boolean }) {
  const chains = useQuery(ofChains());
  const contacts = useQuery(ofContacts());
  const [chosen, choose] = useState<number | null>(null);
  const names = new Map((contacts.data ?? []).map((c) => [c.id, c.name]));
  const step = (s: Step) => {
    const who = s.contacts.map((k) => names.get(k) ?? "?").join(", ");
    return s.after_s ? `${who} after ${lasting(s.after_s)}` : who;
  };
  const about = (c: Chain) => (c.on ? "" : "switched off · ") + (c.steps as Step[]).map(step).join(", then ");
  return (
    <Pane
      found={chains}
      what="Ways of telling"
      none="A way of telling says who is told of which alarms, and who next while nobody takes them."
      chosen={chosen}
      choose={choose}
      engineer={engineer}
      add="Add a way of telling"
      about={about}
    >
      {(chain) => <ChainForm key={chain?.id ?? 0} chain={chain} engineer={engineer} done={choose} />}
    </Pane>
  );
}

function ChainForm({
  chain,
  engineer,
  done,
}: {
  chain: Chain | undefined;
  engineer: boolean;
  done: (id: number) => void;
}) {
  const contacts = useQuery(ofContacts());
  const sites = useQuery(ofSites());
  const conditions = useQuery(ofDefinitions({ kind: "condition", limit: 500 }));
  const [name, setName] = useState(chain?.name ?? "");
  const [on, setOn] = useState(chain?.on ?? true);
  const [steps, setSteps] = useState<Step[]>((chain?.steps as Step[] | undefined) ?? [{ after_s: 0, contacts: [] }]);
  const [priorities, setPriorities] = useState<string[]>(chain?.priorities ?? []);
  const [only, setOnly] = useState<number[]>(chain?.conditions ?? []);
  const [site, setSite] = useState(chain?.site ?? "");
  const [tells, setTells] = useState<string[]>(chain?.tells ?? ["raised", "cleared"]);
  const [openAfter, setOpenAfter] = useState(Math.round((chain?.open_after_s ?? 4 * 3600) / 60));
  const [quiet, setQuiet] = useState<Quiet | null>((chain?.quiet as Quiet | null | undefined) ?? null);
  const toggled = <T,>(all: T[], one: T) => (all.includes(one) ? all.filter((x) => x !== one) : [...all, one]);
  const put = (index: number, change: Partial<Step>) =>
    setSteps(steps.map((s, i) => (i === index ? { ...s, ...change } : s)));
  const body = {
    name,
    on,
    steps,
    priorities: priorities as Chain["priorities"],
    conditions: only,
    site: site || null,
    tells: tells as Chain["tells"],
    open_after_s: tells.includes("still open") ? 60 * openAfter : null,
    quiet,
  };
  const keep = () =>
    chain
      ? got(
          api.PATCH("/api/v1/chains/{ident}", {
            params: { path: { ident: chain.id } },
            headers: ifMatch(chain.revision),
            body,
          }),
        )
      : got(api.POST("/api/v1/chains", { body }));
  return (
    <KeptForm
      thing={chain}
      queryKey="chains"
      engineer={engineer}
      keep={keep}
      drop={(old) => got(api.DELETE("/api/v1/chains/{ident}", { params: { path: { ident: old.id } } }))}
      kept={done}
      trouble={contacts.error}
      copy={() => got(api.POST("/api/v1/chains", { body: { ...body, name: `${name}, copy`.slice(0, 80), on: false } }))}
    >
      <div className="flex items-end gap-4">
        <TextField label="Name" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        <label className="flex min-h-8 items-center gap-2">
          <input type="checkbox" checked={on} onChange={(e) => setOn(e.target.checked)} /> in use
        </label>
      </div>
      <fieldset>
        <legend className="text-[12.5px] text-second">Who is told, until somebody has taken the alarm</legend>
        <ol className="grid gap-2">
          {steps.map((s, i) => (
            <li key={i} className="border-l-3 border-line pl-3">
              <div className="flex flex-wrap items-center gap-2">
                {i === 0 ? "at once" : "after"}
                {i > 0 && (
                  <>
                    <input
                      className="input !w-20"
                      inputMode="numeric"
                      aria-label={`Minutes before step ${i + 1}`}
                      value={Math.round(s.after_s / 60)}
                      onChange={(e) => put(i, { after_s: 60 * (Number(e.target.value) || 0) })}
                    />
                    min
                    <button type="button" className="link" onClick={() => setSteps(steps.filter((_, k) => k !== i))}>
                      drop
                    </button>
                  </>
                )}
              </div>
              <div className="flex flex-wrap gap-x-4">
                {contacts.data?.map((c) => (
                  <label key={c.id} className="flex min-h-7 items-center gap-1.5">
                    <input
                      type="checkbox"
                      checked={s.contacts.includes(c.id)}
                      onChange={() => put(i, { contacts: toggled(s.contacts, c.id) })}
                    />
                    {c.name}
                  </label>
                ))}
              </div>
            </li>
          ))}
        </ol>
        {engineer && steps.length < 10 && (
          <button
            type="button"
            className="link"
            onClick={() => setSteps([...steps, { after_s: (steps.at(-1)?.after_s ?? 0) + 600, contacts: [] }])}
          >
            one more step
          </button>
        )}
      </fieldset>
      <fieldset className="flex flex-wrap gap-x-4">
        <legend className="text-[12.5px] text-second">Of what</legend>
        {TELLS.map((t) => (
          <label key={t} className="flex min-h-7 items-center gap-1.5">
            <input type="checkbox" checked={tells.includes(t)} onChange={() => setTells(toggled(tells, t))} /> {t}
          </label>
        ))}
        {tells.includes("still open") && (
          <label className="flex items-center gap-1.5">
            after
            <input
              className="input !w-20"
              inputMode="numeric"
              aria-label="Minutes until it is told that an alarm is still open"
              value={openAfter}
              onChange={(e) => setOpenAfter(Number(e.target.value) || 0)}
            />
            min, taken or not
          </label>
        )}
      </fieldset>
      <fieldset className="flex flex-wrap gap-x-4">
        <legend className="text-[12.5px] text-second">Of which priorities · none marked: of all</legend>
        {PRIORITIES.map((p) => (
          <label key={p} className="flex min-h-7 items-center gap-1.5">
            <input
              type="checkbox"
              checked={priorities.includes(p)}
              onChange={() => setPriorities(toggled(priorities, p as string))}
            />
            <PriorityMark priority={p} size={12} /> {p}
          </label>
        ))}
      </fieldset>
      <div className="flex flex-wrap items-center gap-2">
        <Pick
          label="Site"
          value={site}
          options={[
            ["", "at every site"],
            ...(sites.data?.results ?? []).map((s): [string, string] => [s.name, `at ${s.title}`]),
          ]}
          onChange={setSite}
        />
        <Pick
          label="Condition"
          value=""
          options={[
            ["", only.length ? "one more condition" : "of every condition"],
            ...(conditions.data?.results ?? [])
              .filter((d) => !only.includes(d.id))
              .map((d): [number, string] => [d.id, d.name]),
          ]}
          onChange={(v) => v && setOnly([...only, Number(v)])}
        />
        {only.map((id) => (
          <button key={id} type="button" className="link" onClick={() => setOnly(only.filter((x) => x !== id))}>
            {conditions.data?.results.find((d) => d.id === id)?.name ?? id} ×
          </button>
        ))}
      </div>
      <fieldset className="flex flex-wrap items-center gap-x-3">
        <legend className="text-[12.5px] text-second">Quiet hours, in the zone of each contact</legend>
        <label className="flex min-h-7 items-center gap-1.5">
          <input
            type="checkbox"
            checked={quiet !== null}
            onChange={() => setQuiet(quiet ? null : { from: "22:00", to: "06:00", but: ["critical"] })}
          />
          wait with it
        </label>
        {quiet && (
          <>
            from
            <input
              type="time"
              className="input !w-28"
              aria-label="Quiet from"
              value={quiet.from}
              onChange={(e) => setQuiet({ ...quiet, from: e.target.value })}
            />
            to
            <input
              type="time"
              className="input !w-28"
              aria-label="Quiet to"
              value={quiet.to}
              onChange={(e) => setQuiet({ ...quiet, to: e.target.value })}
            />
            but tell at once:
            {PRIORITIES.map((p) => (
              <label key={p} className="flex min-h-7 items-center gap-1.5">
                <input
                  type="checkbox"
                  checked={quiet.but.includes(p)}
                  onChange={() => setQuiet({ ...quiet, but: toggled(quiet.but, p as string) })}
                />
                {p}
              </label>
            ))}
          </>
        )}
      </fieldset>
    </KeptForm>
  );
}
