import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { NameField, NameProblem, TextField, Trouble, Wrong } from "../../parts/basics";
import { Conflict } from "../../parts/conflict";
import { useFilled } from "../../parts/filled";
import { useGoOn } from "../../parts/go-on";
import { useKept } from "../../parts/lookback-state";
import { Sure } from "../../parts/sure";
import { UnitField } from "../../parts/unit-field";
import { useAskBeforeLeaving } from "../../parts/unsaved";
import { amount, duration, writtenDuration, wrongName } from "../../parts/written";
import { Changes } from "./changes";

type Type = Schemas["TypeOut"];
type FieldRow = {
  name: string;
  title: string;
  kind: Schemas["FieldKind"];
  unit: string;
  codes?: Record<string, string>;
  wide?: boolean;
  difference?: boolean;
};
type SetpointRow = { name: string; unit: string; value: string };
type Draft = {
  key: string;
  title: string;
  cadence: string;
  gateway: boolean;
  fields: FieldRow[];
  setpoints: SetpointRow[];
};
const KINDS: Schemas["FieldKind"][] = ["number", "integer", "flag", "code", "text", "position", "time"];
const hasUnit = (kind: string) => ["number", "integer"].includes(kind);

const draftOf = (type: Type | null): Draft => ({
  key: type?.key ?? "",
  title: type?.title ?? "",
  cadence: writtenDuration(type?.cadence_s),
  gateway: type?.is_gateway ?? false,
  fields: (type?.fields ?? []).map((f) => ({
    ...f,
    title: f.title ?? "",
    unit: f.unit && f.unit !== "1" ? f.unit : "",
  })),
  setpoints: (type?.setpoints ?? []).map((s) => ({
    name: s.name,
    unit: s.unit === "1" ? "" : s.unit,
    value: s.value === null ? "" : String(s.value),
  })),
});

/** What the form says, as it is sent. */
const bodyOf = (d: Draft) => ({
  key: d.key,
  title: d.title || d.key,
  cadence_s: duration(d.cadence).value ?? null,
  is_gateway: d.gateway,
  fields: d.fields
    .filter((f) => f.name)
    .map((f) => ({
      ...f,
      wide: f.wide ?? false,
      difference: f.difference ?? false,
      unit: hasUnit(f.kind) ? f.unit.trim() || "1" : null,
    })),
  setpoints: d.setpoints
    .filter((s) => s.name)
    .map((s) => ({ name: s.name, unit: s.unit.trim() || "1", value: amount(s.value).value ?? null })),
});

/** The first thing in the form that cannot be read. */
function wrongIn(d: Draft): string | null {
  if (wrongName(d.key, "_")) return "the key";
  if (duration(d.cadence).problem) return "how often it reports";
  const field = d.fields.find((f) => wrongName(f.name, "_") || d.fields.filter((o) => o.name === f.name).length > 1);
  if (field?.name) return `the field ${field.name}`;
  const setpoint = d.setpoints.find((s) => wrongName(s.name, "_") || amount(s.value).problem);
  return setpoint ? `the setpoint ${setpoint.name}` : null;
}

/** A device type: what all units of one make share. Text that is not saved yet stays, whatever is fetched again. */
export function TypeForm({ type, editable }: { type: Type | null; editable: boolean }) {
  const client = useQueryClient();
  const goOn = useGoOn();
  const kept = useKept();
  const { draft, setDraft, fill, changed, over, keepOver } = useFilled(type, draftOf);
  const [removed, setRemoved] = useState<{ word: string; draft: Draft } | null>(null);
  const put = (part: Partial<Draft>) => setDraft({ ...draft, ...part });
  const body = bodyOf(draft);
  const wrong = wrongIn(draft);
  const save = useMutation({
    mutationFn: () =>
      type
        ? got(
            api.PATCH("/api/v1/types/{key}", {
              params: { path: { key: type.key }, header: { "If-Match": `"${over}"` } },
              body,
            }),
          )
        : got(api.POST("/api/v1/types", { body })),
    onSuccess: (saved) => {
      fill(saved);
      setRemoved(null);
      for (const key of ["types", "device", "definitions", "changes"])
        void client.invalidateQueries({ queryKey: [key] });
    },
  });
  const drop = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/types/{key}", { params: { path: { key: type!.key } } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["types"] }),
  });
  const failed = save.error ?? drop.error;
  const trouble = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (failed) trouble.current?.scrollIntoView({ block: "center" }); // the form may be longer than the window
  }, [failed]);
  useAskBeforeLeaving(changed);
  const field = (i: number, part: Partial<FieldRow>) =>
    put({ fields: draft.fields.map((f, k) => (k === i ? { ...f, ...part } : f)) });
  const setpoint = (i: number, part: Partial<SetpointRow>) =>
    put({ setpoints: draft.setpoints.map((s, k) => (k === i ? { ...s, ...part } : s)) });
  const remove = (what: "fields" | "setpoints", i: number) => {
    setRemoved({ word: draft[what][i]?.name || "the empty row", draft });
    put({ [what]: draft[what].filter((_, k) => k !== i) });
  };
  const cadence = duration(draft.cadence);
  return (
    <form
      noValidate
      onSubmit={(e) => {
        e.preventDefault();
        const open = goOn((saved: Type) => kept(`/devices/types/${saved.key}`));
        if (!wrong && draft.key) save.mutate(undefined, type ? {} : { onSuccess: open });
      }}
    >
      <fieldset disabled={!editable} className="grid max-w-3xl gap-5">
        <div className="grid gap-3 sm:grid-cols-3">
          <NameField
            label="key"
            joint="_"
            disabled={Boolean(type)}
            value={draft.key}
            change={(key) => put({ key })}
            note="used in definitions: raft_buoy"
          />
          <TextField
            label="title"
            maxLength={120}
            value={draft.title}
            onChange={(e) => put({ title: e.target.value })}
            note="as people call it"
          />
          <TextField
            label="reports every"
            value={draft.cadence}
            onChange={(e) => put({ cadence: e.target.value })}
            note={
              cadence.value
                ? `${cadence.value} seconds`
                : "such as 5 min; empty: at no set time, never overdue or silent"
            }
            problem={cadence.problem}
          />
        </div>
        <label className="flex min-h-6 items-center gap-2">
          <input type="checkbox" checked={draft.gateway} onChange={(e) => put({ gateway: e.target.checked })} /> a
          gateway: other devices may talk through units of this type
        </label>
        <section>
          <h2 className="mb-1">
            Fields <span>· a decoder adds what is not declared here when it is published</span>
          </h2>
          <ul className="rows">
            {draft.fields.map((f, i) => (
              <li key={i} className="grid grid-cols-[1fr_1fr_104px_130px_60px] items-start gap-2 py-1">
                <RowName
                  label="field name"
                  value={f.name}
                  change={(name) => field(i, { name })}
                  twice={Boolean(f.name) && draft.fields.some((o, k) => k < i && o.name === f.name)}
                />
                <input
                  className="input"
                  aria-label="field title"
                  placeholder="title, if another"
                  maxLength={80}
                  value={f.title}
                  onChange={(e) => field(i, { title: e.target.value })}
                />
                <select
                  className="input"
                  aria-label="kind"
                  value={f.kind}
                  onChange={(e) => field(i, { kind: e.target.value as FieldRow["kind"] })}
                >
                  {KINDS.map((k) => (
                    <option key={k}>{k}</option>
                  ))}
                </select>
                <UnitField
                  label="unit"
                  disabled={!hasUnit(f.kind)}
                  value={hasUnit(f.kind) ? f.unit : ""}
                  onChange={(unit) => field(i, { unit })}
                />
                <button
                  type="button"
                  className="link min-h-8 text-left text-second"
                  onClick={() => remove("fields", i)}
                >
                  remove
                </button>
              </li>
            ))}
          </ul>
          <button
            type="button"
            className="link mt-1"
            onClick={() => put({ fields: [...draft.fields, { name: "", title: "", kind: "number", unit: "" }] })}
          >
            add a field
          </button>
        </section>
        <section>
          <h2 className="mb-1">
            Setpoints <span>· named limits with a default; a site or a device can have its own</span>
          </h2>
          <ul className="rows">
            {draft.setpoints.map((s, i) => (
              <li key={i} className="grid grid-cols-[1fr_120px_130px_60px] items-start gap-2 py-1">
                <RowName label="setpoint name" value={s.name} change={(name) => setpoint(i, { name })} />
                <div>
                  <input
                    className="input"
                    aria-label="default"
                    inputMode="decimal"
                    placeholder="default"
                    aria-invalid={Boolean(amount(s.value).problem)}
                    value={s.value}
                    onChange={(e) => setpoint(i, { value: e.target.value })}
                  />
                  {amount(s.value).problem && (
                    <div className="text-[12px]">
                      <Wrong>{amount(s.value).problem}</Wrong>
                    </div>
                  )}
                </div>
                <UnitField label="setpoint unit" value={s.unit} onChange={(unit) => setpoint(i, { unit })} />
                <button
                  type="button"
                  className="link min-h-8 text-left text-second"
                  onClick={() => remove("setpoints", i)}
                >
                  remove
                </button>
              </li>
            ))}
          </ul>
          <button
            type="button"
            className="link mt-1"
            onClick={() => put({ setpoints: [...draft.setpoints, { name: "", unit: "", value: "" }] })}
          >
            add a setpoint
          </button>
        </section>
        <p role="status" className={removed ? "flex items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1" : ""}>
          {removed && (
            <>
              <span>
                <b>{removed.word}</b> is taken out; it goes when you save.
              </span>
              <button
                type="button"
                className="link"
                onClick={() => {
                  setDraft(removed.draft);
                  setRemoved(null);
                }}
              >
                put it back
              </button>
            </>
          )}
        </p>
        <div ref={trouble}>
          <Trouble error={failed} />
          <Conflict
            error={save.error}
            now={() => got(api.GET("/api/v1/types/{key}", { params: { path: { key: draft.key } } }))}
            take={(standing) => {
              fill(standing);
              setRemoved(null);
              save.reset();
              void client.invalidateQueries({ queryKey: ["types"] });
            }}
            keep={(standing) => {
              keepOver(standing);
              save.reset();
            }}
          />
        </div>
        <div className="flex flex-wrap items-center gap-3">
          {editable && (
            <button className="button strong" disabled={save.isPending || !draft.key || wrong !== null}>
              {type ? "Save the type" : "Add the type"}
            </button>
          )}
          {type &&
            (type.decoder ? (
              <Link className="button" to={kept(`/decoders/${type.decoder}`)}>
                Open its decoder
              </Link>
            ) : (
              editable && (
                <Link className="button" to={kept("/decoders", { type: type.key })}>
                  Begin its decoder
                </Link>
              )
            ))}
          {editable && type && !type.devices && !type.decoder && (
            <Sure act={() => drop.mutate(undefined, { onSuccess: goOn(() => kept("/devices/types")) })}>
              Delete the type
            </Sure>
          )}
          <span role="status">
            {changed
              ? wrong
                ? `Cannot be saved: look at ${wrong}.`
                : type
                  ? "Not saved yet."
                  : ""
              : save.isSuccess
                ? "Saved."
                : ""}
          </span>
        </div>
      </fieldset>
      {type && <Changes about={type.key} />}
    </form>
  );
}

/** A name in a row of a table, with its rule below where it breaks it. */
function RowName({
  label,
  value,
  change,
  twice = false,
}: {
  label: string;
  value: string;
  change: (name: string) => void;
  twice?: boolean;
}) {
  const broken = wrongName(value, "_");
  const wrong = twice ? { problem: "This name stands twice.", proposed: broken?.proposed ?? "" } : broken;
  return (
    <div>
      <input
        className="input"
        aria-label={label}
        aria-invalid={Boolean(wrong)}
        autoComplete="off"
        spellCheck={false}
        value={value}
        onChange={(e) => change(e.target.value)}
      />
      {wrong && (
        <div className="text-[12px]">
          <Wrong>
            <NameProblem wrong={wrong} take={change} />
          </Wrong>
        </div>
      )}
    </div>
  );
}
