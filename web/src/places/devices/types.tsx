import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, Refusal, type Schemas } from "../../api/client";
import { Empty, Heading, TextField, Trouble, Waiting } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";

type Type = Schemas["TypeOut"];
type FieldRow = {
  name: string;
  kind: Schemas["FieldKind"];
  unit: string;
  codes?: Record<string, string>;
  wide?: boolean;
};
type SetpointRow = { name: string; unit: string; value: string };
const KINDS: Schemas["FieldKind"][] = ["number", "integer", "flag", "code", "text", "position", "time"];

const fieldRows = (type: Type | null): FieldRow[] =>
  (type?.fields ?? []).map((f) => ({ ...f, unit: f.unit && f.unit !== "1" ? f.unit : "" }));
const setpointRows = (type: Type | null): SetpointRow[] =>
  (type?.setpoints ?? []).map((s) => ({
    name: s.name,
    unit: s.unit,
    value: s.value === null ? "" : String(s.value),
  }));

/** What the form says, as it is sent. */
const bodyOf = (
  key: string,
  title: string,
  cadence: string,
  gateway: boolean,
  fields: FieldRow[],
  setpoints: SetpointRow[],
) => ({
  key,
  title: title || key,
  cadence_s: cadence ? Number(cadence) : null,
  is_gateway: gateway,
  fields: fields
    .filter((f) => f.name)
    .map((f) => ({
      ...f,
      wide: f.wide ?? false,
      unit: ["number", "integer"].includes(f.kind) ? f.unit || "1" : null,
    })),
  setpoints: setpoints
    .filter((s) => s.name)
    .map((s) => ({ name: s.name, unit: s.unit || "1", value: s.value.trim() === "" ? null : Number(s.value) })),
});

export default function Types() {
  const { key } = useParams();
  const kept = useKept();
  const types = useQuery({ queryKey: ["types"], queryFn: () => got(api.GET("/api/v1/types")) });
  const engineer = useMay("engineer");
  if (types.isPending) return <Waiting what="the device types" />;
  if (!types.data) return <Trouble error={types.error} />;
  const all = types.data.results;
  const chosen = key === "new" ? null : (all.find((t) => t.key === key) ?? all[0]);
  return (
    <>
      <Heading title="Device types" about="What all units of one make share: fields with units, setpoints, cadence">
        {engineer && (
          <Link className="button strong" to={kept("/devices/types/new")}>
            Add a type
          </Link>
        )}
      </Heading>
      <div className="grid gap-8 lg:grid-cols-[230px_1fr]">
        <ul className="rows self-start">
          {all.map((t) => (
            <li key={t.key}>
              <Link
                to={kept(`/devices/types/${t.key}`)}
                className={`row-line flex items-center px-2.5 ${chosen?.key === t.key ? "is-selected" : ""}`}
              >
                <span className="font-semibold">{t.title}</span>
                <span className="ml-auto text-second">{t.devices}</span>
              </Link>
            </li>
          ))}
          {all.length === 0 && <Empty title="No type yet.">Add one: a key, its fields and their units.</Empty>}
        </ul>
        {(chosen || key === "new" || all.length === 0) && (
          <TypeForm key={chosen?.key ?? "new"} type={chosen ?? null} editable={engineer} />
        )}
      </div>
    </>
  );
}

function TypeForm({ type, editable }: { type: Type | null; editable: boolean }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const kept = useKept();
  const [key, setKey] = useState(type?.key ?? "");
  const [title, setTitle] = useState(type?.title ?? "");
  const [cadence, setCadence] = useState(type?.cadence_s ? String(type.cadence_s) : "");
  const [gateway, setGateway] = useState(type?.is_gateway ?? false);
  const [fields, setFields] = useState<FieldRow[]>(() => fieldRows(type));
  const [setpoints, setSetpoints] = useState<SetpointRow[]>(() => setpointRows(type));
  const [seen, setSeen] = useState(type); // the state that the form was filled from
  const fill = (from: Type | null) => {
    setTitle(from?.title ?? "");
    setCadence(from?.cadence_s ? String(from.cadence_s) : "");
    setGateway(from?.is_gateway ?? false);
    setFields(fieldRows(from));
    setSetpoints(setpointRows(from));
    setSeen(from);
  };
  const body = bodyOf(key, title, cadence, gateway, fields, setpoints);
  const before = bodyOf(
    seen?.key ?? "",
    seen?.title ?? "",
    seen?.cadence_s ? String(seen.cadence_s) : "",
    seen?.is_gateway ?? false,
    fieldRows(seen),
    setpointRows(seen),
  );
  // What somebody else saves is taken over while nothing has been changed here; else the own text stays.
  const changed = JSON.stringify(body) !== JSON.stringify(before);
  if (type && type.revision !== seen?.revision && !changed) fill(type);
  const save = useMutation({
    mutationFn: () =>
      type
        ? got(
            api.PATCH("/api/v1/types/{key}", {
              params: { path: { key: type.key }, header: { "If-Match": `"${seen?.revision ?? 0}"` } },
              body,
            }),
          )
        : got(api.POST("/api/v1/types", { body })),
    onSuccess: async (saved) => {
      fill(saved);
      await client.invalidateQueries({ queryKey: ["types"] });
      if (!type) void navigate(kept(`/devices/types/${saved.key}`));
    },
  });
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions", {
          body: { kind: "decoder", name: key, type: key, draft: `decoder ${key} for bytes, big endian\n  ` },
        }),
      ),
    onSuccess: (made) => navigate(kept(`/decoders/${made.id}`)),
  });
  const failed = save.error ?? begin.error;
  const trouble = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (failed) trouble.current?.scrollIntoView({ block: "center" }); // the form may be longer than the window
  }, [failed]);
  const field = (i: number, part: Partial<FieldRow>) =>
    setFields(fields.map((f, k) => (k === i ? { ...f, ...part } : f)));
  const setpoint = (i: number, part: Partial<SetpointRow>) =>
    setSetpoints(setpoints.map((s, k) => (k === i ? { ...s, ...part } : s)));
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <fieldset disabled={!editable} className="grid max-w-3xl gap-5">
        <div className="grid gap-3 sm:grid-cols-3">
          <TextField
            label="key"
            required
            pattern="[a-z][a-z0-9_]{0,62}"
            disabled={Boolean(type)}
            value={key}
            onChange={(e) => setKey(e.target.value)}
            note="used in definitions: raft_buoy"
          />
          <TextField label="title" value={title} onChange={(e) => setTitle(e.target.value)} />
          <TextField
            label="reports every"
            type="number"
            min={1}
            value={cadence}
            onChange={(e) => setCadence(e.target.value)}
            note="seconds"
          />
        </div>
        <label className="flex min-h-6 items-center gap-2">
          <input type="checkbox" checked={gateway} onChange={(e) => setGateway(e.target.checked)} /> a gateway: other
          devices may talk through units of this type
        </label>
        <section>
          <h2 className="mb-1">
            Fields <span>· a decoder adds what is not declared here when it is published</span>
          </h2>
          <ul className="rows">
            {fields.map((f, i) => (
              <li key={i} className="grid grid-cols-[1fr_120px_110px_70px] items-center gap-2 py-1">
                <input
                  className="input"
                  aria-label="field name"
                  value={f.name}
                  onChange={(e) => field(i, { name: e.target.value })}
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
                <input
                  className="input"
                  aria-label="unit"
                  placeholder="unit"
                  disabled={!["number", "integer"].includes(f.kind)}
                  value={f.unit}
                  onChange={(e) => field(i, { unit: e.target.value })}
                />
                <button
                  type="button"
                  className="link text-left text-second"
                  onClick={() => setFields(fields.filter((_, k) => k !== i))}
                >
                  remove
                </button>
              </li>
            ))}
          </ul>
          <button
            type="button"
            className="link mt-1"
            onClick={() => setFields([...fields, { name: "", kind: "number", unit: "" }])}
          >
            add a field
          </button>
        </section>
        <section>
          <h2 className="mb-1">
            Setpoints <span>· named limits with a default; a site or a device can have its own</span>
          </h2>
          <ul className="rows">
            {setpoints.map((s, i) => (
              <li key={i} className="grid grid-cols-[1fr_120px_110px_70px] items-center gap-2 py-1">
                <input
                  className="input"
                  aria-label="setpoint name"
                  value={s.name}
                  onChange={(e) => setpoint(i, { name: e.target.value })}
                />
                <input
                  className="input"
                  aria-label="default"
                  type="number"
                  step="any"
                  placeholder="default"
                  value={s.value}
                  onChange={(e) => setpoint(i, { value: e.target.value })}
                />
                <input
                  className="input"
                  aria-label="setpoint unit"
                  placeholder="unit"
                  value={s.unit}
                  onChange={(e) => setpoint(i, { unit: e.target.value })}
                />
                <button
                  type="button"
                  className="link text-left text-second"
                  onClick={() => setSetpoints(setpoints.filter((_, k) => k !== i))}
                >
                  remove
                </button>
              </li>
            ))}
          </ul>
          <button
            type="button"
            className="link mt-1"
            onClick={() => setSetpoints([...setpoints, { name: "", unit: "", value: "" }])}
          >
            add a setpoint
          </button>
        </section>
        <div ref={trouble}>
          <Trouble error={failed} />
          {save.error instanceof Refusal && save.error.status === 412 && (
            <p>
              <button
                type="button"
                className="button"
                onClick={async () => {
                  const now = await got(api.GET("/api/v1/types/{key}", { params: { path: { key } } }));
                  fill(now);
                  save.reset();
                  await client.invalidateQueries({ queryKey: ["types"] });
                }}
              >
                Take theirs
              </button>{" "}
              <button
                type="button"
                className="button ml-2"
                onClick={() => {
                  setSeen(type);
                  save.reset();
                }}
              >
                Keep mine
              </button>
            </p>
          )}
        </div>
        <div className="flex flex-wrap items-center gap-3">
          {editable && (
            <button className="button strong" disabled={save.isPending || !key}>
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
                <button type="button" className="button" onClick={() => begin.mutate()}>
                  Begin its decoder
                </button>
              )
            ))}
          {save.isSuccess && <span role="status">Saved.</span>}
        </div>
      </fieldset>
    </form>
  );
}
