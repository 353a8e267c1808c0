import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { ofTypes, ofArrivals, ofArrival } from "../api/queries";
import { named, useAddress, word } from "../parts/address";
import { At, Empty, Heading, NameField, Trouble, Waiting } from "../parts/basics";
import { HexRow } from "../parts/bytes";
import { Pick, Toggles } from "../parts/filters";
import { useKeys } from "../parts/keys";
import { look } from "../parts/look";
import { useKept, useLookback } from "../parts/lookback-state";
import { Key } from "../parts/marks";
import { useMay } from "../parts/me";
import { exact } from "../parts/time";
import { counted } from "../parts/words";
import { wrongName } from "../parts/written";
import { DeviceForm, type DeviceDraft } from "./devices/form";
import { putAway, useHeldKey } from "./devices/held-keys";
import { KeyShown } from "./devices/key-box";
import { ofUnknown, ofRefusals, ofOnboarding } from "./queries";

type Arrival = Schemas["ArrivalOut"];
const OUTCOMES = ["", "decoded", "refused", "no decoder", "unknown sender"];

const ADDRESS = { device: word, type: word, outcome: word, unknown: word, message: named };

export default function Arrivals() {
  const [{ message, ...filter }, put] = useAddress(ADDRESS, { ends: "message" });
  const lookback = useLookback();
  const kept = useKept();
  const engineer = useMay("engineer");
  const [pausedAt, setPausedAt] = useState<string | null>(null);
  const held = useHeldKey(filter.device);
  const to = lookback.to?.toISOString() ?? pausedAt ?? undefined;
  const list = useQuery({
    ...ofArrivals({ ...filter, ...(to ? { to } : {}), limit: 60 }),
    placeholderData: keepPreviousData,
  });
  const types = useQuery(ofTypes());
  const unknown = useQuery(ofUnknown());
  const refusals = useQuery({ ...ofRefusals(), refetchInterval: 30_000 });
  const rows = list.data?.results ?? [];
  const chosen = message ?? rows[0]?.id ?? null;
  const one = useQuery({ ...ofArrival(chosen), enabled: Boolean(chosen), placeholderData: keepPreviousData });
  const walk = (by: number) => {
    const i = rows.findIndex((r) => r.id === chosen);
    const next = rows[Math.min(Math.max((i < 0 ? 0 : i) + by, 0), rows.length - 1)];
    if (next) {
      if (!pausedAt && lookback.live) setPausedAt(rows[0]?.received_at ?? null);
      put({ message: next.id });
      document.getElementById(`arrival-${next.id}`)?.scrollIntoView({ block: "nearest" });
    }
  };
  useKeys({
    ArrowDown: () => walk(1),
    ArrowUp: () => walk(-1),
    p: () => setPausedAt(pausedAt ? null : new Date().toISOString()),
  });
  return (
    <>
      <Heading
        title="Arrivals"
        about={
          filter.device ? (
            <>of {filter.device}</>
          ) : (
            "Everything that comes in, raw, whether anything can decode it or not"
          )
        }
      >
        {filter.device && (
          <button type="button" className="link" onClick={() => put({ device: "" })}>
            of all devices
          </button>
        )}
        {lookback.live && (
          <button
            type="button"
            className="button"
            aria-pressed={Boolean(pausedAt)}
            onClick={() => setPausedAt(pausedAt ? null : new Date().toISOString())}
          >
            {pausedAt ? "Follow again" : "Hold still"} <Key>P</Key>
          </button>
        )}
      </Heading>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <Toggles
          label="Outcome"
          value={filter.outcome}
          options={OUTCOMES.map((o) => [o, o || "all"])}
          onChange={(o) => put({ outcome: o })}
        />
        <Pick
          label="Type"
          value={filter.type}
          options={[["", "every type"], ...(types.data?.results ?? []).map((t): [string, string] => [t.key, t.title])]}
          onChange={(t) => put({ type: t })}
        />
        {pausedAt && <span role="status">Held still; new arrivals are not shown.</span>}
      </div>
      <Trouble error={list.error} retry={() => void list.refetch()} />
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,1.35fr)_minmax(320px,1fr)]">
        <div className="min-w-0">
          {list.isPending && <Waiting what="the arrivals" />}
          {list.data && rows.length === 0 && (
            <Empty title="Nothing arrived here.">
              {held ? (
                "Run one of the commands beside this in a terminal: what it sends appears here at once."
              ) : engineer ? (
                <>
                  Give a device a key and send something from a terminal: its page shows the two commands. Or let
                  devices that are not registered speak through an onboarding key, below.
                </>
              ) : (
                "Other outcomes may hold what you look for."
              )}
            </Empty>
          )}
          <ul className="rows" aria-label="Arrivals">
            {rows.map((m) => (
              <li key={m.id} id={`arrival-${m.id}`}>
                <button
                  type="button"
                  className={look(
                    "row-line grid w-full grid-cols-[88px_minmax(90px,130px)_56px_minmax(0,1fr)] items-center",
                    `gap-2 px-2 text-left ${m.id === chosen ? "is-selected" : ""}`,
                  )}
                  onClick={() => put({ message: m.id })}
                >
                  <span className="font-mono text-[12px]">
                    <At at={m.received_at} />
                  </span>
                  <span className={`truncate ${m.unknown ? "font-bold" : "font-semibold"}`}>
                    {m.device_title ?? m.unknown ?? "unknown"}
                  </span>
                  <span className="text-right text-[12px] text-second">{m.size} B</span>
                  <span className="truncate">
                    {m.outcome !== "decoded" && (
                      <b className="mr-2">{m.outcome === "refused" ? m.reason : m.outcome}</b>
                    )}
                    <span className="font-mono text-[12px] text-second">
                      {m.text ?? m.hex.match(/.{1,4}/g)?.join(" ")}
                    </span>
                  </span>
                </button>
              </li>
            ))}
          </ul>
          {list.data?.more && (
            <p className="mt-1 text-[12.5px] text-second">
              The last {rows.length}; drag the lookback into the past for earlier ones.
            </p>
          )}
        </div>
        <div className="min-w-0">
          {held && <KeyShown made={held} dismiss={() => putAway(filter.device)} />}
          {filter.device && !held && engineer && (
            <p className="mb-3 text-second">
              The commands that send from {filter.device} stand with its key, on{" "}
              <Link className="link" to={kept(`/devices/${filter.device}`)}>
                its page
              </Link>
              .
            </p>
          )}
          {one.data && chosen && <One arrival={one.data} kept={kept} />}
          <Unknown senders={unknown.data?.results ?? []} engineer={engineer} show={(unknown) => put({ unknown })} />
          {engineer && <Onboarding />}
          {refusals.data && refusals.data.length > 0 && (
            <section className="mt-5">
              <h2 className="mb-1">
                Turned away <span>· in the last day, not stored</span>
              </h2>
              <ul className="rows">
                {refusals.data.map((r) => (
                  <li key={`${r.device} ${r.reason}`} className="row-line flex items-center gap-2">
                    <b>{r.count}</b> {r.reason} <span className="ml-auto text-second">{r.device ?? "unknown"}</span>
                  </li>
                ))}
              </ul>
            </section>
          )}
        </div>
      </div>
    </>
  );
}

function One({ arrival: m, kept }: { arrival: Arrival; kept: ReturnType<typeof useKept> }) {
  return (
    <section aria-label="One arrival">
      <h2 className="mb-1">
        {m.device_title ?? m.unknown} <span>· {exact(new Date(m.received_at))}</span>
      </h2>
      <dl className="mb-2 grid grid-cols-[90px_1fr] gap-x-2 text-[13px] [&>dt]:text-second">
        <dt>came by</dt>
        <dd>
          {m.channel}
          {m.via && `, through ${m.via}`}
          {m.topic && <span className="ml-2 font-mono text-[12px]">{m.topic}</span>}
        </dd>
        <dt>outcome</dt>
        <dd className={m.outcome === "decoded" ? "" : "font-bold"}>
          {m.outcome}
          {m.reason && `: ${m.reason}`}
          {m.line ? ` (line ${m.line}${m.byte !== null ? `, byte ${m.byte}` : ""})` : ""}
        </dd>
        <dt>payload</dt>
        <dd>{m.size} bytes</dd>
      </dl>
      {m.text ? (
        <pre
          tabIndex={0}
          className="max-h-64 overflow-auto bg-raised p-2 font-mono text-[12px] break-all whitespace-pre-wrap"
        >
          {m.text}
        </pre>
      ) : (
        <div className="max-h-64 overflow-auto">
          <HexRow hex={m.hex} lit={m.byte !== null ? new Set([m.byte]) : undefined} />
        </div>
      )}
      <p className="mt-2 flex flex-wrap gap-3">
        {m.device && (
          <Link className="link" to={kept(`/devices/${m.device}`)}>
            open {m.device_title}
          </Link>
        )}
        {m.type && (
          <Link className="link" to={kept("/decoders", { type: m.type, message: m.id })}>
            try the decoder on it
          </Link>
        )}
      </p>
    </section>
  );
}

function Unknown({
  senders,
  engineer,
  show,
}: {
  senders: Schemas["UnknownOut"][];
  engineer: boolean;
  show: (unknown: string) => void;
}) {
  const client = useQueryClient();
  const [adopting, setAdopting] = useState<Schemas["UnknownOut"] | null>(null);
  const adopt = useMutation({
    mutationFn: ({ id, draft }: { id: number; draft: DeviceDraft }) =>
      got(api.POST("/api/v1/unknown-senders/{ident}/adopt", { params: { path: { ident: id } }, body: draft })),
    onSuccess: () => {
      setAdopting(null);
      return client.invalidateQueries();
    },
  });
  if (!senders.length && !adopt.data) return null;
  return (
    <section className="mt-5">
      <h2 className="mb-1">
        Unknown senders <span>· kept apart, under a quota of their own</span>
      </h2>
      {adopt.data && <KeyShown made={adopt.data} />}
      <ul className="rows">
        {senders.map((u) => (
          <li key={u.id} className="row-line flex flex-wrap items-center gap-2">
            <button type="button" className="link font-bold" onClick={() => show(String(u.id))}>
              {u.name}
            </button>
            <span className="text-second">
              through {u.through}, {counted(u.messages ?? 0, "message")}
              {u.turned_away ? `, ${u.turned_away} turned away` : ""}
            </span>
            {engineer && (
              <button type="button" className="button ml-auto" onClick={() => setAdopting(u)}>
                Adopt as a device
              </button>
            )}
          </li>
        ))}
      </ul>
      {adopting && (
        <div className="mt-3 border-l-3 border-ink pl-4">
          <p className="mb-2">
            <b>{adopting.name}</b> becomes a device with a key of its own; its messages so far come along.
          </p>
          <DeviceForm
            submit="Adopt"
            name={adopting.name}
            pending={adopt.isPending}
            onSubmit={(draft) => adopt.mutate({ id: adopting.id, draft })}
          />
          <Trouble error={adopt.error} />
        </div>
      )}
    </section>
  );
}

function Onboarding() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const list = useQuery(ofOnboarding());
  const add = useMutation({
    mutationFn: () => got(api.POST("/api/v1/onboarding", { body: { name } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["onboarding"] }),
  });
  return (
    <section className="mt-5">
      <h2 className="mb-1">
        Onboarding keys <span>· for devices that are not registered yet</span>
      </h2>
      {list.data && list.data.length > 0 && <p className="text-second">{list.data.map((o) => o.name).join(", ")}</p>}
      {add.data && <KeyShown made={add.data} />}
      <form
        noValidate
        className="mt-1 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <NameField label="name of a new one" joint="-" value={name} change={setName} />
        <button className="button" disabled={!name || Boolean(wrongName(name, "-")) || add.isPending}>
          Make the key
        </button>
      </form>
      <Trouble error={add.error} />
    </section>
  );
}
