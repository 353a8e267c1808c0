import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { ofSites } from "../api/queries";
import { alerts, setAlert } from "../parts/alert";
import { At, Choose, Heading, TextField, Trouble } from "../parts/basics";
import { groundNow, setGround } from "../parts/ground";
import { singleKeysOn } from "../parts/keys";
import { useKept } from "../parts/lookback-state";
import { useMe } from "../parts/me";
import { signOut } from "../parts/session";
import { Sure } from "../parts/sure";
import { exact, ownZone, zoneWord } from "../parts/time";
import { PasswordForm } from "./password";
import { ofItself, ofTokens } from "./queries";

const ROLES = ["viewer", "operator", "engineer", "admin"] as const;
type Role = (typeof ROLES)[number];

export default function Settings() {
  const me = useMe();
  const kept = useKept();
  const [ground, setOwn] = useState(groundNow());
  const [keys, setKeys] = useState(singleKeysOn());
  const leave = useMutation({ mutationFn: signOut });
  return (
    <>
      <Heading
        title="Settings"
        about={
          <>
            signed in as {me.name}, {me.role}
          </>
        }
      >
        <button type="button" className="button" onClick={() => leave.mutate()}>
          Sign out
        </button>
      </Heading>
      <Trouble error={leave.error} />
      <div className="grid max-w-4xl gap-8 lg:grid-cols-2">
        <section className="grid content-start gap-4">
          <fieldset>
            <legend className="text-[12.5px] font-bold text-second">Background</legend>
            {(["light", "dark"] as const).map((g) => (
              <label key={g} className="mr-5 inline-flex min-h-8 items-center gap-2">
                <input
                  type="radio"
                  name="ground"
                  checked={ground === g}
                  onChange={() => {
                    setOwn(g);
                    setGround(g);
                  }}
                />
                {g}
              </label>
            ))}
          </fieldset>
          <Zone />
          <label className="flex min-h-8 items-center gap-2">
            <input
              type="checkbox"
              checked={keys}
              onChange={(e) => {
                setKeys(e.target.checked);
                localStorage.setItem("oculum.single-keys", e.target.checked ? "on" : "off");
              }}
            />
            single keys act: A acknowledges, W asks why
          </label>
          <Alerts />
          <p className="flex gap-4">
            <Link className="link" to={kept("/help")}>
              Guide and language reference
            </Link>
            <Link className="link" to={kept("/settings/archive")}>
              Definitions as text
            </Link>
            <Link className="link" to={kept("/settings/storage")}>
              Storage
            </Link>
            <a className="link" href="/api/v1/docs">
              The API, documented
            </a>
          </p>
        </section>
        <Tokens />
        {me.role === "admin" && <Itself />}
        <section className="max-w-sm">
          <h2 className="mb-1">
            Your password <span>· ends other sessions and tokens</span>
          </h2>
          <PasswordForm word="Change it" />
        </section>
      </div>
    </>
  );
}

/** Oculum as a device of its own, with conditions on how it fares. */
function Itself() {
  const client = useQueryClient();
  const kept = useKept();
  const own = useQuery(ofItself());
  const begin = useMutation({
    mutationFn: () => got(api.POST("/api/v1/itself")),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <section className="max-w-sm">
      <h2 className="mb-1">
        Oculum itself <span>· as a device among the others</span>
      </h2>
      {own.data?.device ? (
        <p>
          It reports once a minute as{" "}
          <Link className="link" to={kept(`/devices/${own.data.device}`)}>
            Oculum itself
          </Link>
          ; conditions on it stand{" "}
          <Link className="link" to={kept("/conditions")}>
            among the others
          </Link>
          .
        </p>
      ) : (
        <>
          <p className="mb-2 text-second">
            How far it lags, what its decoders refuse, how full its disk is and whether a part of it is away: once a
            minute, with four conditions to begin with.
          </p>
          <button
            type="button"
            className="button"
            disabled={!own.data || begin.isPending}
            onClick={() => begin.mutate()}
          >
            Watch it like a device
          </button>
        </>
      )}
      <Trouble error={own.error ?? begin.error} />
    </section>
  );
}

/** In which zone all times are shown: this browser's, a site's, or UTC. */
function Zone() {
  const me = useMe();
  const client = useQueryClient();
  const sites = useQuery(ofSites());
  const change = useMutation({
    mutationFn: (zone: string) => got(api.PATCH("/api/v1/me", { body: { zone } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["me"] }),
  });
  const now = new Date();
  const of = new Map<string, string[]>();
  for (const site of sites.data?.results ?? [])
    if (site.zone && site.zone !== "UTC") of.set(site.zone, [...(of.get(site.zone) ?? []), site.title]);
  const options: [string, string][] = [
    ["", `this browser's, ${zoneWord(now, ownZone())}`],
    ["UTC", "UTC"],
    ...[...of].map(([zone, titles]): [string, string] => [
      zone,
      `${titles[0]}${titles.length > 1 ? ` and ${titles.length - 1} more` : ""}, ${zoneWord(now, zone)}`,
    ]),
  ];
  if (!options.some(([zone]) => zone === me.zone)) options.push([me.zone, `${zoneWord(now, me.zone)}, as it is`]);
  return (
    <div className="max-w-sm">
      <Choose
        label="Times are shown in"
        value={me.zone}
        options={options}
        disabled={change.isPending}
        onChange={(e) => change.mutate(e.target.value)}
        note={<>It is {exact(now)}.</>}
      />
      <Trouble error={change.error ?? sites.error} />
    </div>
  );
}

function Tokens() {
  const client = useQueryClient();
  const me = useMe();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const tokens = useQuery(ofTokens());
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const add = useMutation({
    mutationFn: () => got(api.POST("/api/v1/tokens", { body: { name, role } as Schemas["TokenOutRequest"] })),
    onSuccess: again,
  });
  const drop = useMutation({
    mutationFn: (id: number) => got(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  return (
    <section>
      <h2 className="mb-1">
        Tokens <span>· for programs that use the API in your name</span>
      </h2>
      <ul className="rows">
        {tokens.data?.results.map((t) => (
          <li key={t.id} className="row-line flex items-center gap-3">
            <b>{t.name}</b>
            <span className="text-second">
              {t.role}, oct_{t.prefix}…, used {t.used_at ? <At at={t.used_at} /> : "never"}
            </span>
            <Sure className="link ml-auto" act={() => drop.mutate(t.id)}>
              withdraw
            </Sure>
          </li>
        ))}
      </ul>
      {add.data?.key && (
        <p className="my-2 border-l-3 border-ink bg-raised px-3 py-2">
          <b>Keep it now: it is shown this once.</b>
          <code className="block font-mono text-[12.5px] break-all select-all">{add.data.key}</code>
        </p>
      )}
      <form
        className="mt-3 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextField
          label="name of a new token"
          required
          maxLength={80}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Choose
          label="role"
          value={role}
          onChange={(e) => setRole(e.target.value as Role)}
          options={ROLES.slice(0, ROLES.indexOf(me.role as Role) + 1).map((r) => [r, r])}
        />
        <button className="button" disabled={!name || add.isPending}>
          Make
        </button>
      </form>
      <Trouble error={add.error ?? drop.error} />
    </section>
  );
}

/** How this browser makes itself heard when an alarm comes that nobody has taken. */
function Alerts() {
  const [sound, setSound] = useState(alerts("sound"));
  const [notice, setNotice] = useState(alerts("notice"));
  const [refused, setRefused] = useState(false);
  return (
    <fieldset>
      <legend className="text-[12.5px] font-bold text-second">A new alarm, on this browser</legend>
      <label className="flex min-h-8 items-center gap-2">
        <input
          type="checkbox"
          checked={sound}
          onChange={(e) => void setAlert("sound", e.target.checked).then(setSound)}
        />
        rings; it is heard now
      </label>
      <label className="flex min-h-8 items-center gap-2">
        <input
          type="checkbox"
          checked={notice}
          onChange={(e) => {
            const wanted = e.target.checked;
            void setAlert("notice", wanted).then((on) => {
              setNotice(on);
              setRefused(wanted && !on);
            });
          }}
        />
        shows a notice while another window is in front
      </label>
      {refused && <p className="text-[12.5px]">The browser does not allow notices of this page; it can be told to.</p>}
    </fieldset>
  );
}
