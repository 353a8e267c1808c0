import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { ofTypes } from "../../api/queries";
import { Trouble } from "../../parts/basics";
import { unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { amount } from "../../parts/written";

type Found = Schemas["FleetOut"];
type Filter = Record<string, string>;
const MOST_BYTES = 2_000_000;
const LEAVE = "as it is";

/** Many devices at once: what would become of each is shown first; what was done can be taken back. */
export function Several({
  filter,
  picked,
  count,
  sites,
  close,
}: {
  filter: Filter;
  picked: ReadonlySet<string>;
  count: number;
  sites: [string, string][];
  close: () => void;
}) {
  const client = useQueryClient();
  const query = Object.fromEntries(Object.entries(filter).filter(([name, v]) => v && name !== "order"));
  const [site, setSite] = useState(LEAVE);
  const [phase, setPhase] = useState(LEAVE);
  const [label, setLabel] = useState("");
  const [text, setText] = useState("");
  const types = useQuery(ofTypes());
  const [setpoint, setSetpoint] = useState("");
  const [value, setValue] = useState("");
  const asNumber = amount(value);
  const [file, setFile] = useState<string | null>(null);
  const [wrong, setWrong] = useState<Error | null>(null);
  const work = useMutation({
    mutationFn: ({ dry, undo }: { dry: boolean; undo?: string }) => {
      const written = undo ?? file;
      if (written !== null && written !== undefined)
        return got(api.POST("/api/v1/fleet/file", { body: { text: written, dry_run: dry } }));
      return got(
        api.POST("/api/v1/fleet/change", {
          params: { query },
          body: {
            devices: picked.size ? [...picked] : null,
            dry_run: dry,
            ...(site === LEAVE ? {} : { site: site || null }),
            ...(phase === LEAVE ? {} : { phase: phase as Schemas["PhaseEnum"] }),
            ...(label.trim() ? { labels: { [label.trim()]: text.trim() || null } } : {}),
            ...(setpoint && asNumber.problem === undefined
              ? { setpoints: { [setpoint]: asNumber.value ?? null } }
              : {}),
          },
        }),
      );
    },
    onSuccess: (_, asked) =>
      asked.dry
        ? undefined
        : client.invalidateQueries({ predicate: (q) => /^(device|sites|types|overview)/.test(String(q.queryKey[0])) }),
  });
  const again =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      work.reset();
      set(value);
    };
  const read = async (chosen: File | undefined) => {
    setWrong(null);
    work.reset();
    setFile(null);
    if (!chosen) return;
    if (chosen.size > MOST_BYTES) return setWrong(new Error(`${chosen.name} is larger than 2 MB.`));
    setFile(await chosen.text());
  };
  const found = work.data;
  const dry = work.variables?.dry ?? true;
  const undone = work.variables?.undo !== undefined;
  const told = site !== LEAVE || phase !== LEAVE || label.trim() !== "" || setpoint !== "";
  const wanted = file !== null || (told && asNumber.problem === undefined);
  // What the types that are in question can be told, each with its unit.
  const known = new Map(
    (types.data?.results ?? [])
      .filter((type) => !filter.type || type.key === filter.type)
      .flatMap((type) => (type.setpoints ?? []).map((one) => [one.name, one.unit] as const)),
  );
  return (
    <section className="mb-3 border-l-3 border-ink pl-4" aria-label="Change several">
      <p className="mb-2">
        {file !== null ? (
          <b>What the file says</b>
        ) : picked.size ? (
          <b>{counted(picked.size, "chosen device")}</b>
        ) : (
          <b>All {counted(count, "device")} that match the filter</b>
        )}{" "}
        <span className="text-second">· all at one place in the stream, and can be taken back</span>
      </p>
      <div className="flex flex-wrap items-end gap-x-4 gap-y-2">
        <label className="grid gap-1">
          <span className="text-second">site</span>
          <select className="input" value={site} onChange={(e) => again(setSite)(e.target.value)}>
            <option value={LEAVE}>{LEAVE}</option>
            <option value="">no site</option>
            {sites.map(([name, title]) => (
              <option key={name} value={name}>
                {title}
              </option>
            ))}
          </select>
        </label>
        <label className="grid gap-1">
          <span className="text-second">phase</span>
          <select className="input" value={phase} onChange={(e) => again(setPhase)(e.target.value)}>
            {[LEAVE, "commissioning", "in service", "maintenance", "retired"].map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </label>
        <label className="grid gap-1">
          <span className="text-second">label</span>
          <input className="input !w-32" value={label} onChange={(e) => again(setLabel)(e.target.value)} />
        </label>
        <label className="grid gap-1">
          <span className="text-second">its text, empty takes it off</span>
          <input className="input !w-44" value={text} onChange={(e) => again(setText)(e.target.value)} />
        </label>
        <label className="grid gap-1">
          <span className="text-second">setpoint</span>
          <select className="input" value={setpoint} onChange={(e) => again(setSetpoint)(e.target.value)}>
            <option value="">{LEAVE}</option>
            {[...known].map(([name, unit]) => (
              <option key={name} value={name}>
                {name} ({unitOf(unit)})
              </option>
            ))}
          </select>
        </label>
        <label className="grid gap-1">
          <span className="text-second">{asNumber.problem ?? "its value, empty is the type's"}</span>
          <input
            className="input !w-36"
            inputMode="decimal"
            value={value}
            aria-invalid={asNumber.problem !== undefined}
            disabled={!setpoint}
            onChange={(e) => again(setValue)(e.target.value)}
          />
        </label>
        <label className="grid gap-1">
          <span className="text-second">or a CSV file</span>
          <input type="file" accept=".csv,text/csv" onChange={(e) => void read(e.target.files?.[0])} />
        </label>
        <a className="button" href={`/api/v1/fleet/file?${new URLSearchParams(query).toString()}`} download>
          These as a file
        </a>
      </div>
      <p className="mt-2 flex flex-wrap items-center gap-3">
        <button
          type="button"
          className="button"
          disabled={!wanted || work.isPending}
          onClick={() => work.mutate({ dry: true })}
        >
          Look at it first
        </button>
        {found && dry && (
          <button
            type="button"
            className="button strong"
            disabled={found.changed + found.created === 0 || work.isPending}
            onClick={() => work.mutate({ dry: false })}
          >
            {found.changed + found.created
              ? `Do it for ${counted(found.changed + found.created, "device")}`
              : "Nothing would change"}
          </button>
        )}
        {found && !dry && (
          <>
            <b role="status">
              {undone ? "Taken back: " : ""}
              {said(found)}.
            </b>
            {!undone && found.undo && (
              <button type="button" className="link" onClick={() => work.mutate({ dry: false, undo: found.undo })}>
                Take it back
              </button>
            )}
          </>
        )}
        {found && dry && <span className="text-second">{said(found, "would be ")}</span>}
        <button type="button" className="link ml-auto" onClick={close}>
          close
        </button>
      </p>
      <Trouble error={wrong ?? work.error} />
      {found && found.lines.length > 0 && (
        <ul className="rows mt-2 max-h-52 overflow-y-auto" aria-label="What becomes of them">
          {found.lines.map((line) => (
            <li key={`${line.line} ${line.name}`} className="row-line flex items-center gap-3 px-1">
              {file !== null && <span className="w-14 shrink-0 text-right text-second">line {line.line}</span>}
              <b className="w-40 shrink-0 truncate">{line.name}</b>
              <span className="w-24 shrink-0">{line.becomes}</span>
              <span className="truncate text-second" title={line.says}>
                {line.says}
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function said(found: Found, would = "") {
  const parts = [
    found.created ? `${found.created} ${would}created` : "",
    found.changed ? `${found.changed} ${would}changed` : "",
    found.unchanged ? `${found.unchanged} as they are` : "",
    found.refused ? `${found.refused} refused` : "",
  ].filter(Boolean);
  return parts.join(", ") || "nothing";
}
