import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useMemo } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ofNotes } from "../../api/queries";
import { useNewest } from "../../api/readings";
import { useAddress } from "../../parts/address";
import { At, Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { Chart } from "../../parts/chart";
import { AXIS, MARGIN } from "../../parts/chart-drawing";
import { useKeys, useNow } from "../../parts/keys";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark, StateMark, STATE_WORDS } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Rhythm } from "../../parts/rhythm";
import { exact, lasting, zoneWord } from "../../parts/time";
import { titled, unitOf } from "../../parts/units";
import { useWhy, whyAlarm } from "../../parts/why";
import { counted } from "../../parts/words";
import { DeviceHealth } from "../watch/device-health";
import { Constants } from "./constants";
import { barsOf, limitsOf } from "./context";
import { KeyBox } from "./key-box";
import { happened, Notes } from "./notes";
import { Photo } from "./photo";
import { ofAlarms, ofDevice, ofMessages, ofSeries } from "./queries";
import { Setpoints } from "./setpoints";
import { DRAWN, ValueRow } from "./value-row";

const Where = lazy(() => import("../map/where"));

type Device = Schemas["DeviceOut"];
// That nothing is drawn is not the same as that nothing was chosen.
const ADDRESS = { fields: { read: ([text]: string[]) => text ?? null, write: (text: string | null) => [text ?? ""] } };

export default function DeviceScreen() {
  const { name = "" } = useParams();
  const lookback = useLookback();
  const [{ fields }, put] = useAddress(ADDRESS);
  const device = useQuery({
    ...ofDevice(lookback, name),
    placeholderData: (old) => (old?.name === name ? old : undefined),
  });
  if (device.isPending) return <Waiting what="the device" />;
  if (!device.data) return <Trouble error={device.error} retry={() => void device.refetch()} />;
  const d = device.data;
  const drawable = d.values.filter((v) => DRAWN.includes(v.kind));
  const asked = fields?.split(",").filter((f) => drawable.some((v) => v.field === f));
  const limited = drawable.filter((v) => d.limits.some((l) => l.field === v.field)).map((v) => v.field);
  const chosen =
    asked ??
    [...limited, ...drawable.filter((v) => v.kind === "number").map((v) => v.field)]
      .filter((f, i, all) => all.indexOf(f) === i)
      .slice(0, 3);
  const toggle = (field: string) =>
    put({ fields: (chosen.includes(field) ? chosen.filter((f) => f !== field) : [...chosen, field]).join(",") });
  return <Screen key={d.name} device={d} chosen={chosen} toggle={toggle} />;
}

function Screen({ device: d, chosen, toggle }: { device: Device; chosen: string[]; toggle: (field: string) => void }) {
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const now = useNow(lookback.live ? 10_000 : 600_000);
  const why = useWhy();
  const client = useQueryClient();
  const operator = useMay("operator");
  const engineer = useMay("engineer");
  const alarms = useQuery(ofAlarms(lookback, d.name));
  const series = useQuery(ofSeries(lookback, d.name, chosen));
  const arrivals = useQuery(ofMessages(lookback, d.name));
  const acknowledge = useMutation({
    mutationFn: (id: number) => got(api.POST("/api/v1/alarms/acknowledge", { body: { alarms: [id] } })),
    onSuccess: () =>
      client.invalidateQueries({
        predicate: (q) => ["alarms", "device", "overview", "journal"].includes(String(q.queryKey[0])),
      }),
  });
  const open = d.alarms;
  const untaken = open.find((a) => !a.acknowledged);
  useKeys({
    a: () => untaken && operator && acknowledge.mutate(untaken.id),
    w: () => open[0] && why(whyAlarm(open[0].id)),
    u: () => void navigate(kept("/devices")),
  });
  const notes = useQuery(ofNotes(lookback, d.name)).data;
  const marks = useMemo(() => happened(notes), [notes]);
  const bare = useMemo(() => marks.map(({ at }) => ({ at, word: "" })), [marks]);
  const titles = new Map(d.values.map((v) => [v.field, v.title]));
  const asked = (series.data?.fields ?? []).filter((f) => chosen.includes(f.field));
  const drawn = asked.filter((f) => f.v.some((v) => v !== null));
  const empty = asked.filter((f) => !drawn.includes(f));
  const [start, end] = lookback.bounds(now);
  const ahead = Math.max(
    0,
    ...d.values.map((v) => (v.at && v.received_at ? (Date.parse(v.at) - Date.parse(v.received_at)) / 1000 : 0)),
  );
  const spans = barsOf(alarms.data?.results ?? [], end);
  const ofSite = d.type === "site"; // no unit in the field: routes gather for it
  return (
    <>
      <Heading
        title={
          <>
            <StateMark state={d.state} size={18} /> {d.title}
          </>
        }
        about={
          <>
            {d.type_title} · {d.site_title ?? "no site"}
            {d.gateway && (
              <>
                {" · behind "}
                <Link className="link" to={kept(`/devices/${d.gateway}`)}>
                  {d.gateway}
                </Link>
              </>
            )}
            {d.behind > 0 && ` · ${counted(d.behind, "device")} behind it`}
            {d.phase !== "in service" && <b> · {d.phase}</b>}
            {d.decoder && d.decoder_version && (
              <>
                {" · "}
                <Link className="link" to={kept(`/decoders/${d.decoder}`)}>
                  decoder version {d.decoder_version}
                </Link>
                {d.decoder_because === "held" && ", held on it"}
                {d.decoder_because === "chosen" && ", before the others"}
              </>
            )}
            {Object.entries(d.labels).map(([k, v]) => (
              <span key={k} className="ml-2 border border-line px-1.5 text-[12px]">
                {k}={v}
              </span>
            ))}
          </>
        }
      >
        <span className="hidden text-[12.5px] text-second lg:inline">
          <Key>U</Key> all devices
        </span>
        {engineer && (
          <Link className="button" to={kept(`/devices/${d.name}/edit`)}>
            Change
          </Link>
        )}
      </Heading>
      <p className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1 text-[15px]">
        <State device={d} asOf={lookback.to} />
        {open.map((a) => (
          <span key={a.id} className="flex items-center gap-2">
            <PriorityMark priority={a.priority} taken={a.acknowledged} />
            <span className={a.acknowledged ? "" : "font-bold"}>{a.text}</span>
            <span className="text-second">
              since <At at={a.raised_at} />
            </span>
            {!a.acknowledged && operator && (
              <button type="button" className="link" onClick={() => acknowledge.mutate(a.id)}>
                <Key>A</Key> acknowledge
              </button>
            )}
            <button type="button" className="link" onClick={() => why(whyAlarm(a.id))}>
              <Key>W</Key> why?
            </button>
          </span>
        ))}
      </p>
      <Trouble error={acknowledge.error} />
      {ahead > AHEAD_S && (
        <p className="mb-3 border-l-3 border-ink bg-raised px-3 py-1">
          <b>Its clock is ahead:</b> its last message says that it was measured {lasting(ahead)} after it arrived.
        </p>
      )}
      <div className="grid gap-x-8 gap-y-5 xl:grid-cols-[minmax(330px,380px)_1fr] lg:grid-cols-[330px_1fr]">
        <div className="min-w-0">
          <section className="mb-5">
            <h2 className="mb-1">
              {lookback.live ? "Now" : "Then"} <span>· value, unit, age; press one to draw it</span>
            </h2>
            {d.values.length === 0 && (
              <Empty title="This type has no fields yet.">
                {d.decoder ? (
                  <Link className="link" to={kept(`/decoders/${d.decoder}`)}>
                    Write its decoder
                  </Link>
                ) : (
                  <Link className="link" to={kept("/decoders", { type: d.type })}>
                    Begin its decoder
                  </Link>
                )}{" "}
                against what has arrived.
              </Empty>
            )}
            <Values
              device={d}
              chosen={chosen}
              toggle={toggle}
              alarmOf={(field) =>
                open.find((a) => alarms.data?.results.some((r) => r.id === a.id && r.field === field))
              }
            />
          </section>
          {!ofSite && <DeviceHealth name={d.name} />}
          {d.setpoints.length > 0 && <Setpoints device={d} operator={operator && lookback.live} />}
          {!ofSite && <Constants name={d.name} engineer={engineer} />}
          <Notes name={d.name} />
          <Photo device={d} />
        </div>
        <div className="min-w-0">
          <Trouble error={series.error} retry={() => void series.refetch()} />
          {chosen.length === 0 && <Empty title="Nothing is drawn.">Press a value on the left.</Empty>}
          {empty.length > 0 && (
            <p className="mb-1 text-second">
              Nothing in the lookback of {empty.map((f) => titled(f.field, titles.get(f.field))).join(", ")}.
            </p>
          )}
          {drawn.map((f, i, all) => (
            <Chart
              key={f.field}
              label={titled(f.field, titles.get(f.field))}
              unit={unitOf(f.unit)}
              line={f}
              from={start.getTime() / 1000}
              to={end.getTime() / 1000}
              gapS={Math.max((d.cadence_s ?? 3600) * 2.5, f.low ? (lookback.spanS / 600) * 3 : 0)}
              stepped={f.kind === "flag" || f.kind === "code"}
              height={all.length > 3 ? 96 : all.length > 1 ? 126 : 240}
              axis={i === all.length - 1}
              limits={limitsOf(d.limits, f.field)}
              alarms={spans.filter((s) => s.field === f.field)}
              notes={i ? bare : marks}
              onSpan={(a, b) => lookback.set({ spanS: b - a, to: new Date(b * 1000) })}
            />
          ))}
          {drawn.length > 0 && (
            <p className="mt-1 text-right">
              <Link
                className="link text-second"
                to={
                  kept("/watch/curves") +
                  (kept("").includes("?") ? "&" : "?") +
                  drawn.map((f) => `line=${d.name}:${f.field}`).join("&")
                }
              >
                with others, an earlier span, as a picture
              </Link>
            </p>
          )}
          {series.isFetching && !series.data && chosen.length > 0 && <Waiting what="the curves" />}
          {ofSite && (
            <p className="mt-3 border-l-3 border-line pl-3 text-second">
              Gathered by{" "}
              <Link className="link" to={kept("/routes")}>
                routes
              </Link>{" "}
              from the{" "}
              <Link className="link" to={kept("/devices", { site: d.site ?? "" })}>
                devices at {d.site_title} and below it
              </Link>
              ; the ? beside a value names those that it was made of.
            </p>
          )}
          <section className="mt-3" hidden={ofSite}>
            <h2 className="mb-1">
              Rhythm{" "}
              <span>
                · messages over {spanWord(lookback.spanS)}, a stroke for {lasting(lookback.spanS / d.rhythm.length)}
              </span>
            </h2>
            <div style={{ paddingLeft: AXIS, paddingRight: MARGIN }}>
              <Rhythm
                counts={d.rhythm}
                failing={d.failing}
                knownFrom={d.known_from}
                expected={d.cadence_s ? lookback.spanS / d.rhythm.length / d.cadence_s : null}
                fluid
                height={28}
              />
            </div>
          </section>
          <section className="mt-4" hidden={ofSite}>
            <h2 className="mb-1">
              Messages <span>· the last ones {lookback.live ? "" : "then"}</span>
              <Link className="link ml-3 font-normal text-second" to={kept("/arrivals", { device: d.name })}>
                all
              </Link>
            </h2>
            {arrivals.data?.results.length === 0 && (
              <Empty title="Nothing has arrived yet.">
                {d.has_key || d.gateway
                  ? "Send one with the commands below the key."
                  : "Give it a key below, and send a first message."}
              </Empty>
            )}
            <ul className="rows">
              {arrivals.data?.results.map((m) => (
                <li key={m.id} className="row-line flex items-center gap-3">
                  <span className="font-mono text-[12.5px]" title={exact(new Date(m.received_at))}>
                    <At at={m.received_at} />
                  </span>
                  <span className={m.outcome === "decoded" ? "" : "font-bold"}>
                    {m.outcome === "refused" ? `refused: ${m.reason}` : m.outcome}
                  </span>
                  <Link
                    to={kept("/arrivals", { device: d.name, message: m.id })}
                    className="ml-auto max-w-[55%] truncate font-mono text-[12px] text-second hover:underline"
                  >
                    {m.text ??
                      m.hex
                        .match(/.{1,4}/g)
                        ?.slice(0, 12)
                        .join(" ")}
                  </Link>
                </li>
              ))}
            </ul>
          </section>
          {!ofSite && (
            <Suspense fallback={<Waiting what="the map" />}>
              <Where key={lookback.key.join()} device={d} />
            </Suspense>
          )}
          {engineer && !ofSite && <KeyBox name={d.name} hasKey={d.has_key} gateway={d.gateway} />}
          <p className="mt-4 text-[12.5px] text-second">
            Registered <At at={d.registered_at} />
            {d.adopted_from && <> · came as {d.adopted_from}</>}
            {d.latitude !== null && d.longitude !== null && (
              <>
                {" "}
                · placed at {d.latitude.toFixed(5)}, {d.longitude.toFixed(5)}
              </>
            )}{" "}
            · site time {zoneWord(now, d.zone)}
            {d.site_caretaker && <> · its site is looked after by {d.site_caretaker}</>}
            {d.site_attended && <> · somebody is there {d.site_attended}</>}
          </p>
        </div>
      </div>
    </>
  );
}

const AHEAD_S = 30;

/** The newest values of all fields: as the server told the device, or as they have come since. */
function Values({
  device: d,
  chosen,
  toggle,
  alarmOf,
}: {
  device: Device;
  chosen: string[];
  toggle: (field: string) => void;
  alarmOf: (field: string) => Schemas["OpenAlarm"] | undefined;
}) {
  const lookback = useLookback();
  const newest = useNewest(d.name, lookback.live);
  return (
    <div className="rows" role="table" aria-label="Values">
      {d.values.map((v) => {
        const came = newest[v.field];
        return (
          <ValueRow
            key={v.field}
            value={came && (!v.at || Date.parse(v.at) <= Date.parse(came.at)) ? { ...v, ...came } : v}
            device={d.name}
            drawn={chosen.includes(v.field)}
            toggle={toggle}
            asOf={lookback.to}
            alarm={alarmOf(v.field)}
          />
        );
      })}
    </div>
  );
}

/** Its state in words, with how long it has been so; drawn anew each second by itself. */
function State({ device: d, asOf }: { device: Device; asOf: Date | null }) {
  const now = useNow(1000);
  const word = STATE_WORDS[d.state] ?? d.state;
  const age = d.received_at ? ((asOf ?? now).getTime() - new Date(d.received_at).getTime()) / 1000 : null;
  const due = d.cadence_s && age !== null && asOf === null ? d.cadence_s - age : null;
  return (
    <span>
      <b>{word.charAt(0).toUpperCase() + word.slice(1)}</b>
      {d.state !== "reporting" && d.received_at && age !== null ? (
        <>
          : last heard <b>{lasting(age)}</b> ago{d.cadence_s ? `, expected every ${lasting(d.cadence_s)}` : ""}.
        </>
      ) : d.state === "reporting" && d.cadence_s && due !== null && due > 0 ? (
        <>
          {" "}
          every {lasting(d.cadence_s)}; the next message is due within <b>{lasting(due)}</b>.
        </>
      ) : (
        "."
      )}
    </span>
  );
}
