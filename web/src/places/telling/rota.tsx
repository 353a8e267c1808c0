import { Pick } from "../../parts/filters";
import { TextField } from "../../parts/basics";

export type DaysOff = { from: string; to: string };
export type Rota = {
  begins: string;
  at: string;
  weeks: number[];
  exceptions: { from: string; to: string; contact: number }[];
};
type Named = { id: number; name: string };

/** Spans of whole days. */
export function Spans({
  label,
  add,
  spans,
  change,
  editable,
}: {
  label: string;
  add: string;
  spans: DaysOff[];
  change: (spans: DaysOff[]) => void;
  editable: boolean;
}) {
  const put = (n: number, part: Partial<DaysOff>) => change(spans.map((s, k) => (k === n ? { ...s, ...part } : s)));
  return (
    <fieldset className="grid gap-2">
      <legend className="text-[12.5px] text-second">{label}</legend>
      {spans.map((span, n) => (
        <div key={n} className="flex flex-wrap items-center gap-2">
          <Day label={`${label} ${n + 1}, from`} value={span.from} change={(from) => put(n, { from })} />
          to
          <Day label={`${label} ${n + 1}, to`} value={span.to} change={(to) => put(n, { to })} />
          {editable && (
            <button type="button" className="link" onClick={() => change(spans.filter((_, k) => k !== n))}>
              drop
            </button>
          )}
        </div>
      ))}
      {editable && (
        <button
          type="button"
          className="link justify-self-start"
          onClick={() => change([...spans, { from: today(), to: today() }])}
        >
          {add}
        </button>
      )}
    </fieldset>
  );
}

const Day = ({ label, value, change }: { label: string; value: string; change: (day: string) => void }) => (
  <input
    type="date"
    required
    className="input !w-40"
    aria-label={label}
    value={value}
    onChange={(e) => change(e.target.value)}
  />
);

export const today = () => new Date().toISOString().slice(0, 10);

/** Whose week it is: contacts in turn from a day on, handed over at an hour, with exceptions. */
export function RotaFields({
  rota,
  change,
  contacts,
  editable,
}: {
  rota: Rota;
  change: (rota: Rota) => void;
  contacts: Named[];
  editable: boolean;
}) {
  const options = contacts.map((c): [number, string] => [c.id, c.name]);
  const first = contacts[0]?.id ?? 0;
  return (
    <div className="grid gap-3 border-l-3 border-line pl-3">
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="The first week begins on"
          type="date"
          required
          value={rota.begins}
          onChange={(e) => change({ ...rota, begins: e.target.value })}
        />
        <TextField
          label="Handed over at"
          type="time"
          required
          value={rota.at}
          onChange={(e) => change({ ...rota, at: e.target.value })}
        />
      </div>
      <fieldset className="grid gap-2">
        <legend className="text-[12.5px] text-second">Weeks, in turn</legend>
        {rota.weeks.map((who, n) => (
          <div key={n} className="flex items-center gap-2">
            <span className="w-16 text-second">week {n + 1}</span>
            <Pick
              label={`Week ${n + 1}`}
              value={who}
              options={options}
              onChange={(v) => change({ ...rota, weeks: rota.weeks.map((w, k) => (k === n ? Number(v) : w)) })}
            />
            {editable && rota.weeks.length > 1 && (
              <button
                type="button"
                className="link"
                onClick={() => change({ ...rota, weeks: rota.weeks.filter((_, k) => k !== n) })}
              >
                drop
              </button>
            )}
          </div>
        ))}
        {editable && (
          <button
            type="button"
            className="link justify-self-start"
            onClick={() => change({ ...rota, weeks: [...rota.weeks, first] })}
          >
            one more week
          </button>
        )}
      </fieldset>
      <fieldset className="grid gap-2">
        <legend className="text-[12.5px] text-second">Instead</legend>
        {rota.exceptions.map((one, n) => {
          const put = (part: Partial<typeof one>) =>
            change({ ...rota, exceptions: rota.exceptions.map((e, k) => (k === n ? { ...e, ...part } : e)) });
          return (
            <div key={n} className="flex flex-wrap items-center gap-2">
              <Pick
                label={`Exception ${n + 1}`}
                value={one.contact}
                options={options}
                onChange={(v) => put({ contact: Number(v) })}
              />
              <Day label={`Exception ${n + 1}, from`} value={one.from} change={(from) => put({ from })} />
              to
              <Day label={`Exception ${n + 1}, to`} value={one.to} change={(to) => put({ to })} />
              {editable && (
                <button
                  type="button"
                  className="link"
                  onClick={() => change({ ...rota, exceptions: rota.exceptions.filter((_, k) => k !== n) })}
                >
                  drop
                </button>
              )}
            </div>
          );
        })}
        {editable && (
          <button
            type="button"
            className="link justify-self-start"
            onClick={() =>
              change({ ...rota, exceptions: [...rota.exceptions, { from: today(), to: today(), contact: first }] })
            }
          >
            somebody else on some days
          </button>
        )}
      </fieldset>
    </div>
  );
}
