import { useState } from "react";
import type { Schemas } from "../../api/client";
import { At, precisely, Trouble } from "../../parts/basics";
import { tintStyle } from "../../parts/bytes";
import { Curve } from "../../parts/curve";
import { lasting, minutes } from "../../parts/time";
import { unitOf } from "../../parts/units";
import { look } from "../../parts/look";

export function Verdict({
  decoded,
  error,
  blocked,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  error: unknown;
  blocked: boolean;
  setLine: (line: number) => void;
}) {
  if (blocked) return <p className="text-second">Values wait until the text is right.</p>;
  if (error) return <Trouble error={error} />;
  if (decoded && !decoded.error && decoded.checked)
    return <p className="text-[12.5px] text-second">The check is right.</p>;
  if (!decoded?.error) return null;
  const e = decoded.error;
  return (
    <div role="alert" className="my-1 border-l-3 border-ink bg-raised px-3 py-1.5">
      <b>Refused, {e.code}:</b> {e.message}{" "}
      {e.line > 0 && (
        <button type="button" className="link" onClick={() => setLine(e.line)}>
          line {e.line}
        </button>
      )}
    </div>
  );
}

type Reading = Schemas["ReadingOut"];

const keyOf = (v: Reading) => `${v.device ?? ""} ${v.field}`;

/** The values of a message, those of one field together, in the order in which fields first come. */
export function together(values: Reading[]): Reading[][] {
  const found = new Map<string, Reading[]>();
  for (const v of values) {
    const key = keyOf(v);
    const own = found.get(key);
    if (own) own.push(v);
    else found.set(key, [v]);
  }
  return [...found.values()];
}

const FEW = 3;
const SHOWN = 200;

export function Values({
  decoded,
  curves,
  sender,
  marks,
  tintOf,
  line,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  curves: Schemas["CurvesOut"] | undefined;
  sender: string | null;
  marks: Schemas["MarkOut"][];
  tintOf: Map<number, number>;
  line: number | null;
  setLine: (line: number) => void;
}) {
  const [open, setOpen] = useState<Set<string>>(new Set());
  if (!decoded?.values.length) return null;
  const groups = together(decoded.values);
  const usual = decoded.values[0]?.at;
  const devices = new Set(decoded.values.map((v) => v.device));
  const row = (field: string, on: boolean) =>
    ({
      className: look(
        "row-line !min-h-7 grid w-full",
        "grid-cols-[8px_minmax(0,1.15fr)_minmax(0,1fr)_minmax(0,58px)_72px] items-center gap-2",
        `text-left ${on ? "is-selected" : ""}`,
      ),
      onMouseEnter: () => enter(field),
      onFocus: () => enter(field),
    }) as const;
  const enter = (field: string) => {
    const mark = marks.find((m) => m.field === field);
    if (mark) setLine(mark.line);
  };
  return (
    <>
      <h2 className="mt-2 mb-1 flex flex-wrap items-baseline gap-x-1">
        What it says
        <span>
          · value, unit, raw
          {curves && curves.messages > 1 ? `, its last ${curves.messages} messages` : ""}
        </span>
      </h2>
      {usual && Math.abs(new Date(usual).getTime() - new Date(decoded.received_at).getTime()) >= 1000 && (
        <p className="mb-1 text-[12.5px] text-second">
          Measured <At at={usual} />, {lasting(apart(usual, decoded.received_at))}{" "}
          {usual < decoded.received_at ? "before" : "after"} it arrived
          {decoded.values.some((v) => v.at !== usual) ? ", where nothing else stands" : ""}
        </p>
      )}
      <ul className="rows" aria-label="Values">
        {groups.slice(0, SHOWN).map((group) => {
          const v = group[0];
          if (!v) return null;
          const key = keyOf(v);
          const own = marks.filter((m) => m.field === v.field);
          const on = own.some((m) => m.line === line);
          const tint = <span className="h-5" style={own[0] ? tintStyle(tintOf.get(own[0].line) ?? 0) : undefined} />;
          const name = (
            <span className="truncate">
              {v.field}
              {devices.size > 1 && v.device && <span className="text-second"> of {v.device}</span>}
            </span>
          );
          if (group.length <= FEW || open.has(key))
            return group.map((one, turn) => (
              <li key={`${key} ${turn}`}>
                <button type="button" {...row(v.field, on)} onClick={() => setOpen(without(open, key))}>
                  {tint}
                  {name}
                  <span className="truncate">
                    <Said v={one} />
                    {one.at !== usual && <span className="unit"> at {minutes(new Date(one.at))}</span>}
                  </span>
                  <Raw mark={own[turn] ?? own[0]} />
                  {turn === 0 && (!v.device || v.device === sender) && <FieldCurve curves={curves} field={v.field} />}
                </button>
              </li>
            ));
          return (
            <li key={key}>
              <button
                type="button"
                aria-expanded={false}
                {...row(v.field, on)}
                onClick={() => setOpen(new Set([...open, key]))}
              >
                {tint}
                {name}
                <span className="truncate" title="press to see each">
                  <Spread group={group} />
                </span>
                <span className="truncate text-right text-[12px] text-second">{group.length} values</span>
                <Curve height={24} values={group.map(number)} times={group.map((x) => new Date(x.at).getTime())} />
              </button>
            </li>
          );
        })}
      </ul>
      {groups.length > SHOWN && <p className="text-second">… and {groups.length - SHOWN} fields more</p>}
    </>
  );
}

const apart = (a: string, b: string) => Math.abs(new Date(a).getTime() - new Date(b).getTime()) / 1000;
const number = (v: Reading) =>
  typeof v.value === "number" && (v.kind === "number" || v.kind === "integer") ? v.value : null;
const without = (set: Set<string>, key: string) => new Set([...set].filter((k) => k !== key));

const Said = ({ v }: { v: Reading }) => (
  <>
    {v.missing ? <span>missing: {v.missing}</span> : <b>{v.text ?? precisely(v.value, v)}</b>}{" "}
    <span className="unit">{v.missing ? "" : unitOf(v.unit)}</span>
  </>
);

/** Many values of one field in few words: from where to where, or what the last one is. */
function Spread({ group }: { group: Reading[] }) {
  const numbers = group.map(number).filter((n) => n !== null);
  const last = group[group.length - 1];
  if (!numbers.length || !last) return last ? <Said v={last} /> : null;
  const [low, high] = [Math.min(...numbers), Math.max(...numbers)];
  const gone = group.length - numbers.length;
  return (
    <>
      <b>{low === high ? precisely(low, last) : `${precisely(low, last)} to ${precisely(high, last)}`}</b>{" "}
      <span className="unit">
        {unitOf(last.unit)}
        {gone ? `, ${gone} missing` : ""}
      </span>
    </>
  );
}

const Raw = ({ mark }: { mark: Schemas["MarkOut"] | undefined }) => (
  <span className="truncate text-right font-mono text-[12px] text-second">
    {mark?.raw?.map(String).join(", ") ?? (mark?.paths ?? []).filter((p) => p !== ".").join(", ")}
  </span>
);

function FieldCurve({ curves, field }: { curves: Schemas["CurvesOut"] | undefined; field: string }) {
  const found = curves?.fields.find((f) => f.field === field);
  return found ? <Curve height={24} values={found.v} times={found.t} /> : <span />;
}
