import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas } from "../../api/client";
import { ofSites, ofTypes, ofDevices } from "../../api/queries";
import { count, useAddress, word } from "../../parts/address";
import { At, Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Pick, Toggles } from "../../parts/filters";
import { useKeys, useNow } from "../../parts/keys";
import { look } from "../../parts/look";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark, StateMark, STATE_WORDS } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Pages } from "../../parts/pages";
import { Rhythm } from "../../parts/rhythm";
import { before, columnsOf, columnWord, FIXED, Head, Told, useColumns } from "./columns";
import { DeviceSelections } from "./selections";
import { Several } from "./several";

const ColumnsMenu = lazy(() => import("./columns-menu"));

type Row = Schemas["DeviceRowOut"];
const PAGE = 100;
const NARROW = "grid grid-cols-[20px_minmax(120px,1.2fr)_minmax(90px,1fr)] gap-x-3";
const STATES = ["reporting", "overdue", "silent", "undecodable", "waiting"];

const ADDRESS = { q: word, type: word, site: word, gateway: word, state: word, order: word, offset: count };

export function Devices() {
  const [{ offset, ...asked }, put] = useAddress(ADDRESS, { ends: "offset" });
  const filter = { ...asked, order: asked.order || "worst" };
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const now = useNow(5000);
  const engineer = useMay("engineer") && lookback.live;
  const search = useRef<HTMLInputElement>(null);
  const [choosing, setSeveral] = useState(false);
  const several = choosing && engineer;
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const pick = (name: string, on: boolean) =>
    setPicked((before) => new Set(on ? [...before, name] : [...before].filter((other) => other !== name)));
  const [kinds, setColumns] = useColumns();
  const columns = kinds.filter((name) => !(name === "type" && filter.type) && !(name === "site" && filter.site));
  const wide = columnsOf(columns);
  const devices = useQuery({
    ...ofDevices({ ...filter, column: columns.filter((c) => !FIXED.has(c)), limit: PAGE, offset }, lookback),
    placeholderData: keepPreviousData,
    refetchInterval: lookback.live ? 30_000 : false,
  });
  const types = useQuery(ofTypes());
  const sites = useQuery(ofSites(lookback));
  const rows = devices.data?.results ?? [];
  const total = Object.values(devices.data?.states ?? {}).reduce((a, b) => a + b, 0);
  const list = [...Object.values(filter), offset, ...lookback.key].join();
  const chosen = useChosen(rows, (row) => row.name, devices.isPlaceholderData ? null : list);
  const filtered = Boolean(filter.q || filter.type || filter.site || filter.gateway || filter.state || offset);
  const open = (row: Row | undefined) => row && void navigate(kept(`/devices/${row.name}`));
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    Enter: () => open(chosen.current),
    f: () => search.current?.focus(),
    ...(several ? { " ": () => chosen.current && pick(chosen.current.name, !picked.has(chosen.current.name)) } : {}),
  });
  const asOf = lookback.to ?? now;
  return (
    <>
      <Heading title="Devices" about={devices.data && <>{total} in service or commissioning</>}>
        <Link className="button" to={kept("/devices/types")}>
          Device types
        </Link>
        <Link className="button" to={kept("/devices/sites")}>
          Sites
        </Link>
        {engineer && (
          <button
            type="button"
            className="button"
            aria-expanded={several}
            onClick={() => {
              setSeveral(!several);
              setPicked(new Set());
            }}
          >
            Change several
          </button>
        )}
        {engineer && (
          <Link className="button strong" to={kept("/devices/add")}>
            Add a device
          </Link>
        )}
      </Heading>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <Toggles
          label="State"
          value={filter.state}
          onChange={(state) => put({ state })}
          options={[["", total] as const, ...STATES.map((state) => [state, devices.data?.states[state] ?? 0] as const)]
            .filter(([state, count]) => count || !state || filter.state === state)
            .map(([state, count]) => [
              state,
              <>
                {state && <StateMark state={state} size={12} />}
                {state ? (STATE_WORDS[state] ?? state) : "all"} <span className="text-second">{count}</span>
              </>,
            ])}
        />
        <input
          ref={search}
          className="input !w-44"
          placeholder="name, firmware=2 …"
          aria-label="Filter by words"
          value={filter.q}
          onChange={(e) => put({ q: e.target.value })}
        />
        <Pick
          label="Type"
          value={filter.type}
          options={[["", "every type"], ...(types.data?.results ?? []).map((t): [string, string] => [t.key, t.title])]}
          onChange={(t) => put({ type: t })}
        />
        <Pick
          label="Site"
          value={filter.site}
          options={[["", "every site"], ...(sites.data?.results ?? []).map((t): [string, string] => [t.name, t.title])]}
          onChange={(t) => put({ site: t })}
        />
        {filter.gateway && (
          <button type="button" className="link" onClick={() => put({ gateway: "" })}>
            behind {filter.gateway} <span aria-hidden>×</span>
            <span className="sr-only">: show all</span>
          </button>
        )}
        <Pick
          className="ml-auto"
          label="Order"
          value={filter.order}
          options={[
            ["worst", "worst first"],
            ["name", "by name"],
            ["heard", "unheard first"],
            ...(["worst", "name", "heard"].includes(filter.order)
              ? []
              : [
                  [filter.order, `by ${columnWord(filter.order.replace(/^-/, ""), types.data?.results)}`] as [
                    string,
                    string,
                  ],
                ]),
          ]}
          onChange={(order) => put({ order })}
        />
      </div>
      <div className="mb-3 flex flex-wrap items-start gap-2">
        <DeviceSelections filter={filter} columns={kinds} setColumns={setColumns} />
        <span className="ml-auto hidden md:inline">
          <Suspense fallback={<span className="button">Columns</span>}>
            <ColumnsMenu chosen={kinds} change={setColumns} type={filter.type} types={types.data?.results ?? []} />
          </Suspense>
        </span>
      </div>
      {several && (
        <Several
          filter={filter}
          picked={picked}
          count={devices.data?.count ?? 0}
          sites={(sites.data?.results ?? []).map((s): [string, string] => [s.name, s.title])}
          close={() => setSeveral(false)}
        />
      )}
      <Trouble error={devices.error} retry={() => void devices.refetch()} />
      {devices.isPending && <Waiting what="the devices" />}
      {devices.data && rows.length === 0 && (
        <Empty title={filtered ? "No device matches." : "No device yet."}>
          {filtered ? (
            "Loosen the filter above."
          ) : !lookback.live ? (
            "None was there at this moment."
          ) : engineer ? (
            <>
              Add the first one, or let a device speak through an onboarding key: it then appears under{" "}
              <Link className="link" to={kept("/arrivals")}>
                Arrivals
              </Link>
              .
            </>
          ) : (
            "An engineer can add devices."
          )}
        </Empty>
      )}
      {rows.length > 0 && (
        <>
          <div className="overflow-x-auto">
            <div className="rows rows-headed md:min-w-(--least)" style={wide} role="grid" aria-label="Devices">
              <div
                role="row"
                className={look(NARROW, "border-0! pb-1 text-[12.5px] font-bold text-second", "md:grid-cols-(--wide)")}
                style={wide}
              >
                <span role="columnheader" aria-label="State" />
                <span role="columnheader">Device</span>
                {columns.filter(before).map((name) => (
                  <Head
                    key={name}
                    name={name}
                    order={filter.order}
                    types={types.data?.results}
                    sort={(order) => put({ order })}
                  />
                ))}
                <span role="columnheader">What is wrong</span>
                {columns
                  .filter((name) => !before(name))
                  .map((name) => (
                    <Head
                      key={name}
                      name={name}
                      order={filter.order}
                      types={types.data?.results}
                      sort={(order) => put({ order })}
                      unit={devices.data?.units[name]}
                      note={name === "rhythm" ? spanWord(lookback.spanS) : undefined}
                    />
                  ))}
              </div>
              {rows.map((row) => {
                const own = chosen.row(row);
                return (
                  <div
                    key={row.name}
                    {...own}
                    className={look(
                      NARROW,
                      "row-line items-center md:grid-cols-(--wide)",
                      own["aria-selected"] ? "is-selected" : "",
                    )}
                  >
                    <span role="gridcell" className="pl-1.5">
                      {several ? (
                        <input
                          type="checkbox"
                          aria-label={`choose ${row.title}`}
                          checked={picked.has(row.name)}
                          onChange={(e) => pick(row.name, e.target.checked)}
                        />
                      ) : (
                        <StateMark state={row.state} />
                      )}
                    </span>
                    <span role="gridcell" className="truncate">
                      <Link to={kept(`/devices/${row.name}`)} className="row-link font-semibold hover:underline">
                        {row.title}
                      </Link>
                    </span>
                    {columns.filter(before).map((name) => (
                      <span key={name} role="gridcell" className="hidden truncate text-second md:block">
                        {name === "type" ? row.type_title : (row.site_title ?? "no site")}
                      </span>
                    ))}
                    <span role="gridcell" className="min-w-0">
                      <Wrong row={row} />
                    </span>
                    {columns
                      .filter((name) => !before(name))
                      .map((name) => (
                        <span
                          key={name}
                          role="gridcell"
                          className={look(
                            "hidden truncate md:block",
                            name === "rhythm" ? "" : "text-right text-second",
                          )}
                        >
                          {name === "rhythm" ? (
                            <Rhythm
                              counts={row.rhythm}
                              failing={row.failing}
                              knownFrom={row.known_from}
                              expected={row.cadence_s ? lookback.spanS / row.rhythm.length / row.cadence_s : null}
                              width={165}
                            />
                          ) : name === "heard" ? (
                            <At at={row.received_at} now={asOf} relative />
                          ) : name === "gateway" ? (
                            (row.gateway ?? "none")
                          ) : (
                            <Told name={name} value={row.columns[name]} />
                          )}
                        </span>
                      ))}
                  </div>
                );
              })}
            </div>
          </div>
          <footer className="mt-2 flex items-center gap-3 text-[12.5px] text-second">
            <span className="hidden md:inline">
              <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open <Key>F</Key> filter
              {several && (
                <>
                  {" "}
                  <Key>Space</Key> choose
                </>
              )}
            </span>
            <span className="ml-auto flex items-center gap-3">
              <Pages offset={offset} size={PAGE} count={devices.data?.count ?? 0} go={(to) => put({ offset: to })} />
            </span>
          </footer>
        </>
      )}
    </>
  );
}

function Wrong({ row }: { row: Row }) {
  const first = row.alarms[0];
  const words: Record<string, string> = {
    overdue: "next message is overdue",
    silent: "silent",
    undecodable: "last message could not be decoded",
    waiting: "nothing heard yet",
  };
  if (first)
    return (
      <span className="flex min-w-0 items-center gap-2">
        <PriorityMark priority={first.priority} taken={first.acknowledged} size={12} />
        <span className={`truncate ${first.acknowledged ? "" : "font-bold"}`} title={first.text}>
          {first.text}
        </span>
        {row.alarms.length > 1 && <span className="text-second">+{row.alarms.length - 1}</span>}
      </span>
    );
  return (
    <span className={look("block truncate", row.state === "reporting" ? "text-third" : "")}>
      {words[row.state] ?? ""}
    </span>
  );
}
