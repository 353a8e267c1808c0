import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { At, Field, TextField, Trouble } from "../../parts/basics";
import { Toggles } from "../../parts/filters";
import { useMay } from "../../parts/me";
import { KeptForm, Pane } from "./pane";
import { ifMatch, ofOutlets, ofReachedHosts } from "./queries";
import { OutletReadings } from "./readings";
import { RequestOfItsOwn, Templates } from "./templates";

type Outlet = Schemas["OutletOut"];
type Settings = Record<string, string | number | boolean | Record<string, string>>;

const USUAL: Record<string, Settings> = {
  mail: { port: 587, security: "starttls" },
  webhook: {},
  mqtt: { port: 8883 },
  file: { format: "jsonl", rotate_mb: 10, keep: 30 },
};

const state = (o: Outlet) =>
  !o.on
    ? "switched off"
    : o.opens_at && new Date(o.opens_at) > new Date()
      ? `blocked: ${o.last_error}`
      : o.last_error
        ? `failed: ${o.last_error}`
        : o.last_at
          ? "works"
          : "not used yet";

/** Ways out: mail servers, and addresses that take events. */
export function Outlets({ engineer }: { engineer: boolean }) {
  const outlets = useQuery({ ...ofOutlets(), refetchInterval: 10_000 });
  const [chosen, choose] = useState<number | null>(null);
  return (
    <Pane
      found={outlets}
      what="Outlets"
      none="An outlet is a mail server, an address that takes events, a broker, or files. Add the first one."
      chosen={chosen}
      choose={choose}
      engineer={engineer}
      add="Add an outlet"
      about={(o) => `${o.kind}, ${state(o)}${o.waiting ? ` · ${o.waiting} waiting` : ""}`}
    >
      {(outlet) => <OutletForm key={outlet?.id ?? 0} outlet={outlet} engineer={engineer} done={choose} />}
    </Pane>
  );
}

function OutletForm({
  outlet,
  engineer,
  done,
}: {
  outlet: Outlet | undefined;
  engineer: boolean;
  done: (id: number) => void;
}) {
  const [kind, setKind] = useState<Outlet["kind"]>(outlet?.kind ?? "mail");
  const [name, setName] = useState(outlet?.name ?? "");
  const [settings, setSettings] = useState<Settings>(
    (outlet?.settings as Settings | undefined) ?? (USUAL.mail as Settings),
  );
  const [secret, setSecret] = useState("");
  const [perHour, setPerHour] = useState(outlet?.per_hour ?? 60);
  const [on, setOn] = useState(outlet?.on ?? true);
  const put = (key: string, value: string | number) => setSettings((old) => ({ ...old, [key]: value }));
  const text = (key: string) => String(settings[key] ?? "");
  const body = { name, kind, settings, per_hour: perHour, on, ...(secret ? { secret } : {}) };
  const keep = () =>
    outlet
      ? got(
          api.PATCH("/api/v1/outlets/{ident}", {
            params: { path: { ident: outlet.id } },
            headers: ifMatch(outlet.revision),
            body,
          }),
        )
      : got(api.POST("/api/v1/outlets", { body }));
  return (
    <>
      <KeptForm
        thing={outlet}
        queryKey="outlets"
        engineer={engineer}
        keep={keep}
        drop={(old) => got(api.DELETE("/api/v1/outlets/{ident}", { params: { path: { ident: old.id } } }))}
        kept={(id) => {
          setSecret("");
          done(id);
        }}
        trouble={null}
      >
        {!outlet && (
          <Toggles
            label="Kind"
            value={kind}
            options={[
              ["mail", "Mail"],
              ["webhook", "Webhook"],
              ["mqtt", "MQTT"],
              ["file", "Files"],
            ]}
            onChange={(k) => {
              setKind(k as Outlet["kind"]);
              setSettings(USUAL[k] ?? {});
            }}
          />
        )}
        <TextField label="Name" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        {kind === "mail" ? (
          <>
            <div className="grid grid-cols-[1fr_110px_150px] gap-3">
              <TextField label="Mail server" value={text("host")} onChange={(e) => put("host", e.target.value)} />
              <TextField
                label="Port"
                inputMode="numeric"
                value={text("port")}
                onChange={(e) => put("port", Number(e.target.value) || 0)}
              />
              <Field label="Security">
                {(id) => (
                  <select
                    id={id}
                    className="input"
                    value={text("security")}
                    onChange={(e) => put("security", e.target.value)}
                  >
                    <option value="starttls">STARTTLS</option>
                    <option value="tls">TLS</option>
                    <option value="none">none</option>
                  </select>
                )}
              </Field>
            </div>
            <TextField label="Sender" value={text("sender")} onChange={(e) => put("sender", e.target.value)} />
            <TextField
              label="Signs in as"
              note="empty: the server wants no sign-in"
              value={text("user")}
              onChange={(e) => put("user", e.target.value)}
            />
          </>
        ) : kind === "mqtt" ? (
          <>
            <div className="grid grid-cols-[1fr_110px_90px] gap-3">
              <TextField label="Broker" value={text("host")} onChange={(e) => put("host", e.target.value)} />
              <TextField
                label="Port"
                inputMode="numeric"
                value={text("port")}
                onChange={(e) => put("port", Number(e.target.value) || 0)}
              />
              <label className="flex min-h-8 items-center gap-2 self-end">
                <input
                  type="checkbox"
                  checked={settings.tls !== false}
                  onChange={(e) => setSettings((old) => ({ ...old, tls: e.target.checked }))}
                />{" "}
                TLS
              </label>
            </div>
            <TextField
              label="Topic"
              note="takes a CloudEvent (JSON) for each alarm and each reading, with QoS 1"
              value={text("topic")}
              onChange={(e) => put("topic", e.target.value)}
            />
            <TextField
              label="Signs in as"
              note="empty: the broker wants no sign-in"
              value={text("user")}
              onChange={(e) => put("user", e.target.value)}
            />
          </>
        ) : kind === "file" ? (
          <div className="grid grid-cols-[1fr_130px_130px] gap-3">
            <Field label="Each file is" note="for readings that routes send; written on the server">
              {(id) => (
                <select
                  id={id}
                  className="input"
                  value={text("format")}
                  onChange={(e) => put("format", e.target.value)}
                >
                  <option value="jsonl">JSON, an object a line</option>
                  <option value="csv">CSV, a row a value</option>
                </select>
              )}
            </Field>
            <TextField
              label="Begun anew at, MB"
              inputMode="numeric"
              value={text("rotate_mb")}
              onChange={(e) => put("rotate_mb", Number(e.target.value) || 0)}
            />
            <TextField
              label="Files kept"
              inputMode="numeric"
              value={text("keep")}
              onChange={(e) => put("keep", Number(e.target.value) || 0)}
            />
          </div>
        ) : (
          <>
            <TextField
              label="Address"
              note="takes a batch of CloudEvents (JSON) by POST: alarms, and readings that routes send"
              value={text("url")}
              onChange={(e) => put("url", e.target.value)}
            />
            <RequestOfItsOwn
              headers={typeof settings.headers === "object" ? settings.headers : {}}
              body={text("body")}
              put={(changed) => setSettings((old) => ({ ...old, ...changed }))}
            />
          </>
        )}
        {kind !== "file" && (
          <TextField
            label={kind === "webhook" ? "Key that signs (HMAC-SHA256)" : "Password"}
            type="password"
            autoComplete="new-password"
            note={
              outlet?.has_secret ? "one is kept, and never shown; what you write here replaces it" : "kept encrypted"
            }
            value={secret}
            onChange={(e) => setSecret(e.target.value)}
          />
        )}
        {kind === "mail" && <Templates subject={text("subject")} text={text("text")} put={put} />}
        <div className="flex flex-wrap items-end gap-4">
          {kind !== "file" && (
            <TextField
              label="Messages an hour, to one address"
              note="of alarms"
              inputMode="numeric"
              value={perHour}
              onChange={(e) => setPerHour(Number(e.target.value) || 0)}
            />
          )}
          <label className="flex min-h-8 items-center gap-2">
            <input type="checkbox" checked={on} onChange={(e) => setOn(e.target.checked)} /> in use
          </label>
        </div>
      </KeptForm>
      {outlet?.opens_at && new Date(outlet.opens_at) > new Date() && (
        <p className="mt-3 border-l-3 border-ink pl-3">
          It failed {outlet.failures} times in a row and is let be until <At at={outlet.opens_at} />.
        </p>
      )}
      {outlet && outlet.kind !== "mail" && <OutletReadings id={outlet.id} />}
      {outlet && engineer && <Test outlet={outlet} />}
      <Hosts />
    </>
  );
}

/** Sends a test message now, and shows what went out and what came back. */
function Test({ outlet }: { outlet: Outlet }) {
  const [to, setTo] = useState("");
  const test = useMutation({
    mutationFn: () =>
      got(api.POST("/api/v1/outlets/{ident}/test", { params: { path: { ident: outlet.id } }, body: { to } })),
  });
  return (
    <section className="mt-6" aria-label="Test">
      <h2>Try it</h2>
      <form
        className="mt-1 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          test.mutate();
        }}
      >
        <TextField
          label={outlet.kind === "mail" ? "To" : "To (empty: its own address)"}
          value={to}
          onChange={(e) => setTo(e.target.value)}
        />
        <button className="button" disabled={test.isPending}>
          {test.isPending ? "Sending …" : "Send a test"}
        </button>
      </form>
      <Trouble error={test.error} />
      {test.data && (
        <div role="status" className="mt-2">
          <p>
            <b>{test.data.fine ? "It was taken." : "It was not taken."}</b> {test.data.fine ? "" : test.data.answer}
          </p>
          {test.data.fine && (
            <pre tabIndex={0} className="mt-1 max-h-60 overflow-auto bg-raised p-2 font-mono text-[12px]">
              {test.data.request}
              {"\n\n"}
              {test.data.answer}
            </pre>
          )}
        </div>
      )}
    </section>
  );
}

/** Hosts of one's own network that an administrator lets outlets reach. */
function Hosts() {
  const admin = useMay("admin");
  const client = useQueryClient();
  const [host, setHost] = useState("");
  const hosts = useQuery({ ...ofReachedHosts(), enabled: admin });
  const fresh = () => client.invalidateQueries({ queryKey: ["reached-hosts"] });
  const allow = useMutation({
    mutationFn: () => got(api.POST("/api/v1/reached-hosts", { body: { host } })),
    onSuccess: () => {
      setHost("");
      return fresh();
    },
  });
  const forbid = useMutation({
    mutationFn: async (ident: number) => {
      await got(api.DELETE("/api/v1/reached-hosts/{ident}", { params: { path: { ident } } }));
    },
    onSuccess: fresh,
  });
  if (!admin) return null;
  return (
    <section className="mt-6">
      <h2>
        Hosts inside that may be reached <span>· all else inside a network of its own is refused</span>
      </h2>
      <ul className="mt-1 flex flex-wrap gap-3">
        {hosts.data?.map((h) => (
          <li key={h.id}>
            <code>{h.host}</code>{" "}
            <button type="button" className="link" onClick={() => forbid.mutate(h.id)}>
              forbid
            </button>
          </li>
        ))}
      </ul>
      <form
        className="mt-1 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          allow.mutate();
        }}
      >
        <TextField label="Host" value={host} onChange={(e) => setHost(e.target.value)} />
        <button className="button">Allow it</button>
      </form>
      <Trouble error={hosts.error ?? allow.error ?? forbid.error} />
    </section>
  );
}
