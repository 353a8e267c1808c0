import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState, type ReactNode } from "react";
import { NavLink, useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useLiveState } from "../api/live";
import { ofOverview } from "../api/queries";
import { useAlert } from "./alert";
import { HealthStrip } from "./health";
import { useHelp } from "./help";
import { useKeys } from "./keys";
import { look } from "./look";
import { LookbackBand } from "./lookback";
import { useKept, useLookback } from "./lookback-state";
import { Emblem, Key } from "./marks";
import { useMe } from "./me";
import { Palette } from "./palette";
import { WhySheet } from "./why";
import { counted } from "./words";

const HelpSheet = lazy(() => import("../help/sheet"));

type Overview = Schemas["OverviewOut"];
type Figure = { text: string; trouble?: boolean };

/** The places in the order of the work, each with a figure of its own. */
function places(o: Overview | undefined): { to: string; word: string; figure: Figure; flow: number }[] {
  if (!o)
    return ["Watch", "Devices", "Arrivals", "Decoders", "Routes", "Conditions", "Alarms", "Places", "Telling"].map(
      (word) => ({
        to: `/${word.toLowerCase()}`,
        word,
        figure: { text: "…" },
        flow: 1,
      }),
    );
  const quiet = o.states.silent ?? 0;
  const bad = o.states.undecodable ?? 0;
  const unheard = o.states.waiting ?? 0;
  const heard = o.devices ? 1 - quiet / o.devices : 0;
  const rate = o.messages_per_minute;
  const decoded = rate ? Math.max(0, 1 - o.refused_per_minute / rate) : 1;
  const routed = heard * decoded * o.routes_keep;
  const per = (n: number) => (n >= 10 ? n.toFixed(0) : n.toFixed(1));
  const hands = o.unacknowledged + o.blocked_outlets.length + o.failing_routes.length;
  return [
    {
      to: "/watch",
      word: "Watch",
      flow: 1,
      figure: hands
        ? { text: `${hands} need${hands > 1 ? "" : "s"} a hand`, trouble: true }
        : { text: "nothing needs a hand" },
    },
    {
      to: "/devices",
      word: "Devices",
      flow: 1,
      figure: quiet
        ? { text: `${quiet} of ${o.devices} silent`, trouble: true }
        : { text: !o.devices ? "none yet" : unheard ? `${unheard} never heard` : `${o.devices}, all heard` },
    },
    {
      to: "/arrivals",
      word: "Arrivals",
      flow: heard,
      figure: o.unknown_senders
        ? { text: `${o.unknown_senders} unknown sender${o.unknown_senders > 1 ? "s" : ""}`, trouble: true }
        : { text: `${per(rate)} a minute` },
    },
    {
      to: "/decoders",
      word: "Decoders",
      flow: heard * decoded,
      figure: bad
        ? { text: `${bad} undecodable`, trouble: true }
        : o.failing_types.length
          ? { text: `${per(o.refused_per_minute)} refused a minute`, trouble: true }
          : { text: o.decoders ? `${o.decoders}, none failing` : "none yet" },
    },
    {
      to: "/routes",
      word: "Routes",
      flow: routed,
      figure: o.failing_routes.length
        ? { text: `${o.failing_routes.length === 1 ? "one" : o.failing_routes.length} failing`, trouble: true }
        : { text: o.routes ? `${o.routes} in force` : "none yet" },
    },
    {
      to: "/conditions",
      word: "Conditions",
      flow: routed,
      figure:
        o.engine_behind > 2000
          ? { text: `${counted(o.engine_behind, "message")} behind`, trouble: true }
          : o.conditions_in_trouble
            ? { text: `${o.conditions_in_trouble} unreadable`, trouble: true }
            : { text: o.conditions ? `${o.conditions} watching` : "none yet" },
    },
    {
      to: "/alarms",
      word: "Alarms",
      flow: routed,
      figure: o.open_alarms
        ? {
            text: `${o.open_alarms} open${o.unacknowledged ? `, ${o.unacknowledged} not taken` : ""}`,
            trouble: o.unacknowledged > 0,
          }
        : { text: "none open" },
    },
    {
      to: "/places",
      word: "Places",
      flow: routed,
      figure: { text: o.fences ? counted(o.fences, "fence") : "the map" },
    },
    {
      to: "/telling",
      word: "Telling",
      flow: routed,
      figure: o.blocked_outlets.length
        ? { text: `${o.blocked_outlets[0]} fails`, trouble: true }
        : o.undelivered
          ? { text: `${o.undelivered} not delivered`, trouble: true }
          : { text: o.outlets ? counted(o.outlets, "outlet") : "nobody yet" },
    },
  ];
}

/** The stream beside the places: as wide as the flow, narrower where messages are lost. */
function Stream({ flows }: { flows: number[] }) {
  const step = 52;
  const wide = (share: number) => 2 + 8 * Math.max(0, Math.min(1, share));
  const points: [number, number][] = [];
  flows.forEach((flow, i) => {
    const y = i * step;
    points.push([wide(i ? (flows[i - 1] ?? flow) : flow), y], [wide(flow), y + 12], [wide(flow), y + step]);
  });
  const right = points.map(([w, y]) => `${6 + w / 2},${y}`);
  const left = [...points].reverse().map(([w, y]) => `${6 - w / 2},${y}`);
  return (
    <svg width="12" height={flows.length * step} className="pointer-events-none absolute top-0 left-3 z-10" aria-hidden>
      <polygon points={[...right, ...left].join(" ")} fill="var(--quiet)" />
    </svg>
  );
}

export function Shell({ children }: { children: ReactNode }) {
  const me = useMe();
  const kept = useKept();
  const lookback = useLookback();
  const navigate = useNavigate();
  const [explained] = useHelp();
  const [palette, setPalette] = useState(false);
  const [menu, setMenu] = useState(false);
  const live = useLiveState();
  const overview = useQuery({ ...ofOverview(lookback.to), refetchInterval: 10_000, placeholderData: (old) => old });
  useEffect(() => {
    // After signing in the focus stands nowhere: it goes to what there is to read.
    if (document.activeElement === document.body) document.getElementById("main")?.focus({ preventScroll: true });
  }, []);
  useAlert(overview.isPlaceholderData ? undefined : overview.data?.unacknowledged, lookback.live);
  useKeys({ "Ctrl+k": () => setPalette(true), "/": () => setPalette(true) });
  const list = places(overview.data);
  const item = "relative flex flex-col justify-center pl-9 pr-2 hover:bg-raised";
  return (
    <div
      className={look(
        "grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr_auto]",
        "md:grid-cols-[172px_1fr] md:grid-rows-[1fr_auto]",
      )}
    >
      <a href="#main" className="absolute -top-20 left-2 z-50 bg-raised p-2 focus:top-2">
        to the content
      </a>
      <nav
        aria-label="Places"
        className="flex flex-col border-b border-line md:overflow-y-auto md:border-r md:border-b-0"
      >
        <div className="flex items-center gap-2 px-4 py-3 text-[17px] font-bold">
          <Emblem /> Oculum
          <button
            type="button"
            className="button ml-auto min-w-0 text-[14.5px] md:hidden"
            aria-expanded={menu}
            onClick={() => setMenu(!menu)}
          >
            Places
            {overview.data && overview.data.open_alarms > 0 && (
              <span className="truncate font-normal">
                · {counted(overview.data.open_alarms, "alarm")}
                {overview.data.unacknowledged > 0 && <b>, {overview.data.unacknowledged} not taken</b>}
              </span>
            )}
          </button>
        </div>
        <div className={`${menu ? "flex" : "hidden"} flex-1 flex-col md:flex`} onClick={() => setMenu(false)}>
          <div className="relative">
            <Stream flows={list.map((p) => p.flow)} />
            {list.map((place) => (
              <NavLink
                key={place.to}
                to={kept(place.to)}
                className={({ isActive }) =>
                  `${item} h-[52px] ${isActive ? "bg-raised shadow-[inset_-3px_0_0_var(--ink)]" : ""}`
                }
              >
                <span className="text-[14.5px] font-semibold">{place.word}</span>
                <span className={`text-[12px] ${place.figure.trouble ? "font-bold text-ink" : "text-second"}`}>
                  {place.figure.trouble && <span aria-hidden>▸ </span>}
                  {place.figure.text}
                </span>
              </NavLink>
            ))}
          </div>
          <div className="mt-4 md:mt-auto md:pb-3">
            <button
              type="button"
              className={`${item} h-9 w-full text-left text-second`}
              onClick={() => setPalette(true)}
            >
              <span className="flex items-center gap-2">
                Find <Key>Ctrl K</Key>
              </span>
            </button>
            {me.role === "admin" && (
              <NavLink to={kept("/people")} className={`${item} h-8 text-second`}>
                People
              </NavLink>
            )}
            <NavLink to={kept("/help")} className={`${item} h-8 text-second`}>
              Help
            </NavLink>
            <NavLink to={kept("/settings")} className={`${item} h-8 text-second`}>
              Settings
            </NavLink>
          </div>
        </div>
      </nav>
      <main id="main" tabIndex={-1} className="min-h-0 min-w-0 overflow-y-auto px-4 py-4 outline-none md:px-6">
        {live === "lost" && (
          <p role="status" className="mb-3 border-l-3 border-ink bg-raised px-3 py-1.5">
            <b>Not live.</b> The connection is lost; what you see stands still until it is back.
          </p>
        )}
        <HealthStrip />
        {!lookback.live && (
          <p role="status" className="mb-3 flex items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1.5">
            <span>
              <b>The past.</b> Everything is shown as it was at the cursor of the lookback below.
            </span>
            <button type="button" className="link" onClick={() => lookback.set({ to: null })}>
              back to now
            </button>
          </p>
        )}
        {children}
      </main>
      <div className="border-t border-line bg-raised md:col-span-2">
        <LookbackBand />
      </div>
      <Palette open={palette} onOpenChange={setPalette} go={(path) => void navigate(path)} />
      <WhySheet />
      {explained !== null && (
        <Suspense fallback={null}>
          <HelpSheet word={explained} />
        </Suspense>
      )}
    </div>
  );
}
