import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ofDevices } from "../../api/queries";
import { At, Empty, Trouble } from "../../parts/basics";
import { useNow } from "../../parts/keys";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { PriorityMark, StateMark, STATE_WORDS } from "../../parts/marks";
import { lasting, minutesIn } from "../../parts/time";
import { counted } from "../../parts/words";
import { percent } from "../watch/figures";
import { ofSiteHealth } from "./queries";

/** What is dragged: the name of a device. */
export const DRAGGED = "application/x-oculum-device";
const SHOWN = 15;

/** Moves devices to a site, and back again if one asks for it. */
export function useMove() {
  const client = useQueryClient();
  const fresh = () =>
    client.invalidateQueries({
      predicate: (q) => ["sites", "devices", "device", "health", "changes"].includes(String(q.queryKey[0])),
    });
  const move = useMutation({
    mutationFn: ({ devices, site }: { devices: string[]; site: string; from: string }) =>
      got(api.POST("/api/v1/fleet/change", { params: { query: {} }, body: { devices, site, dry_run: false } })),
    onSuccess: fresh,
  });
  return move;
}

const share = (value: number | null) => (value === null ? "unknown" : percent(value));

/** How a site is, with all that lies in it: health over the lookback, open alarms, and its devices. */
export function SiteStanding({
  site: { name: site, title, zone, caretaker, attended },
  sites,
  editable,
  move,
}: {
  site: Schemas["SiteOut"];
  sites: [string, string][];
  editable: boolean;
  move: ReturnType<typeof useMove>;
}) {
  const lookback = useLookback();
  const kept = useKept();
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const health = useQuery({ ...ofSiteHealth(lookback, site), placeholderData: keepPreviousData });
  const devices = useQuery({
    ...ofDevices({ site, order: "worst", limit: SHOWN }, lookback),
    placeholderData: keepPreviousData,
    refetchInterval: lookback.live ? 30_000 : false,
  });
  const now = useNow(15_000);
  const rows = devices.data?.results ?? [];
  const figures = health.data?.whole;
  const alarms = rows.flatMap((row) => row.alarms.map((alarm) => ({ row, alarm })));
  const here = move.data && move.variables ? move.variables : null;
  return (
    <section aria-label="How it is" className="mb-6 max-w-3xl">
      <h2 className="mb-1 text-[17px] font-bold text-ink!">{title}</h2>
      <p className="mb-2 text-second">
        {caretaker ? (
          <>
            Looked after by <b className="text-ink">{caretaker}</b>
          </>
        ) : (
          "Nobody is named who looks after it"
        )}
        {attended && <> · somebody is there {attended}</>} · its clock: {minutesIn(now, zone ?? "UTC")}
      </p>
      <Trouble error={health.error ?? devices.error ?? move.error} />
      {figures && (
        <p className="mb-3">
          <b>{counted(figures.devices, "device")} in service</b>, with those of the sites in it. Over{" "}
          {lookback.live ? "the last " : ""}
          {spanWord(lookback.spanS)}: {share(figures.availability)} of the messages expected arrived,{" "}
          {share(figures.decoded)} of them decoded, {share(figures.complete)} of the values complete
          {figures.delay_s !== null && `, ${lasting(figures.delay_s)} late`}.
        </p>
      )}
      {alarms.length > 0 && (
        <ul className="rows mb-4" aria-label="Open alarms">
          {alarms.slice(0, 8).map(({ row, alarm }) => (
            <li key={alarm.id} className="row-line flex items-center gap-2">
              <PriorityMark priority={alarm.priority} taken={alarm.acknowledged} size={12} />
              <Link className="min-w-0 truncate hover:underline" to={kept("/alarms", { alarm: String(alarm.id) })}>
                {alarm.text}
              </Link>
              <span className="ml-auto whitespace-nowrap text-second">
                {row.site_title}, since <At at={alarm.raised_at} />
              </span>
            </li>
          ))}
          {alarms.length > 8 && <li className="text-second">and {alarms.length - 8} more</li>}
        </ul>
      )}
      {editable && rows.length > 0 && (
        <p className="mb-2 flex flex-wrap items-center gap-2">
          {picked.size > 0 ? (
            <select
              className="input !w-auto"
              aria-label="Move to"
              value=""
              onChange={(e) => {
                if (!e.target.value) return;
                move.mutate({ devices: [...picked], site: e.target.value, from: site });
                setPicked(new Set());
              }}
            >
              <option value="">move {counted(picked.size, "device")} to …</option>
              {sites
                .filter(([name]) => name !== site)
                .map(([name, title]) => (
                  <option key={name} value={name}>
                    {title}
                  </option>
                ))}
            </select>
          ) : (
            <span className="text-second">Drag a device onto a site on the left, or tick some to move them.</span>
          )}
          {here && (
            <span role="status">
              Moved {here.devices.join(", ")}.{" "}
              <button
                type="button"
                className="link"
                onClick={() => move.mutate({ devices: here.devices, site: here.from, from: here.site })}
              >
                put back
              </button>
            </span>
          )}
        </p>
      )}
      {devices.data && rows.length === 0 && (
        <Empty title="No device is here.">Give one this site, or drag it here.</Empty>
      )}
      <ul className="rows" aria-label="Devices here">
        {rows.map((row) => (
          <li
            key={row.name}
            draggable={editable}
            onDragStart={(e) => {
              const some = picked.has(row.name) ? [...picked] : [row.name];
              e.dataTransfer.setData(DRAGGED, JSON.stringify({ devices: some, from: row.site ?? "" }));
              e.dataTransfer.effectAllowed = "move";
            }}
            className={`row-line flex items-center gap-2 ${editable ? "cursor-grab" : ""}`}
          >
            {editable && (
              <input
                type="checkbox"
                aria-label={`choose ${row.title}`}
                checked={picked.has(row.name)}
                onChange={(e) =>
                  setPicked(
                    new Set(
                      e.target.checked ? [...picked, row.name] : [...picked].filter((other) => other !== row.name),
                    ),
                  )
                }
              />
            )}
            <StateMark state={row.state} size={12} />
            <Link className="font-semibold hover:underline" to={kept(`/devices/${row.name}`)}>
              {row.title}
            </Link>
            <span className="text-second">{row.type_title}</span>
            {row.site !== site && <span className="text-second">· {row.site_title}</span>}
            <span className="ml-auto text-second">{STATE_WORDS[row.state] ?? row.state}</span>
          </li>
        ))}
      </ul>
      {(devices.data?.count ?? 0) > rows.length && (
        <p className="mt-1 text-second">
          the {rows.length} worst of {devices.data?.count};{" "}
          <Link className="link" to={kept("/devices", { site })}>
            all of them
          </Link>
        </p>
      )}
    </section>
  );
}
