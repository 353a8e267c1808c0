import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas } from "../../api/client";
import { ofTypes, ofDefinitions } from "../../api/queries";
import { named, useAddress, word } from "../../parts/address";
import { At, Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { useKeys } from "../../parts/keys";
import { look } from "../../parts/look";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { Begin } from "./begin";

type Definition = Schemas["DefinitionOut"];
type Row = { key: string; to: string; definition?: Definition; type?: Schemas["TypeOut"] };
const COLUMNS = look(
  "grid grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] gap-3 px-2.5",
  "md:grid-cols-[minmax(0,1.4fr)_150px_minmax(0,1.6fr)_190px]",
);

const OF_SITES = "site"; // its readings come from routes

/** Decoders, or conditions: what is in force, how it fares; and types whose messages wait for a decoder. */
export const Decoders = () => <Definitions kind="decoder" />;
export const Conditions = () => <Definitions kind="condition" />;

const ADDRESS = { type: word, message: named, scope: word };

function Definitions({ kind }: { kind: "decoder" | "condition" }) {
  const kept = useKept();
  const navigate = useNavigate();
  const lookback = useLookback();
  const engineer = useMay("engineer") && lookback.live;
  const [{ type: wanted, message, scope }] = useAddress(ADDRESS);
  const [adding, setAdding] = useState(false);
  const list = useQuery({ ...ofDefinitions({ kind }, lookback), refetchInterval: lookback.live ? 30_000 : false });
  const types = useQuery({ ...ofTypes(), refetchInterval: 30_000 });
  const found = list.data?.results ?? [];
  const direct = kind === "decoder" && wanted ? found.find((d) => d.type === wanted) : undefined;
  useEffect(() => {
    if (direct) void navigate(kept(`/decoders/${direct.id}`, message ? { message } : {}), { replace: true });
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [direct?.id]);
  const bare =
    kind === "decoder" && list.data
      ? (types.data?.results ?? []).filter((t) => t.key !== OF_SITES && !found.some((d) => d.type === t.key))
      : [];
  const rows: Row[] = [
    ...bare.filter((t) => t.waiting_today).map((t) => ({ key: t.key, to: `/decoders?type=${t.key}`, type: t })),
    ...found.map((d) => ({ key: String(d.id), to: `/${kind}s/${d.id}`, definition: d })),
    ...bare.filter((t) => !t.waiting_today).map((t) => ({ key: t.key, to: `/decoders?type=${t.key}`, type: t })),
  ];
  const chosen = useChosen(rows, (row) => row.key, kind);
  const go = (row: Row | undefined) => {
    if (row?.definition) void navigate(kept(row.to));
    else if (row?.type) void navigate(kept("/decoders", { type: row.type.key }));
  };
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    Enter: () => go(chosen.current),
  });
  return (
    <>
      <Heading
        title={kind === "decoder" ? "Decoders" : "Conditions"}
        about={
          kind === "decoder"
            ? "What turns payloads into readings, one a device type"
            : "What says when an alarm is raised and cleared"
        }
      >
        {engineer && (
          <button type="button" className="button strong" aria-expanded={adding} onClick={() => setAdding(!adding)}>
            Begin a {kind}
          </button>
        )}
      </Heading>
      {engineer && list.data && !direct && (adding || (kind === "decoder" && wanted)) && (
        <Begin
          key={wanted}
          kind={kind}
          taken={found.map((r) => r.type)}
          type={wanted}
          message={message}
          scope={scope}
        />
      )}
      <Trouble error={list.error} retry={() => void list.refetch()} />
      {list.isPending && <Waiting what={`the ${kind}s`} />}
      {list.data && types.data && rows.length === 0 && (
        <Empty title={`No ${kind} yet.`}>
          {kind === "decoder"
            ? "Add a device type, then begin its decoder and write it against a real arrival."
            : "Begin one: it watches the readings of a device type."}
        </Empty>
      )}
      <div className="rows" role="grid" aria-label={`${kind}s`}>
        {rows.map((row) => {
          const own = chosen.row(row);
          return (
            <div
              key={row.key}
              {...own}
              className={`row-line items-center ${COLUMNS} ${own["aria-selected"] ? "is-selected" : ""}`}
            >
              {row.definition ? <InForce d={row.definition} to={kept(row.to)} then={!lookback.live} /> : null}
              {row.type ? <Bare t={row.type} to={kept("/decoders", { type: row.type.key })} /> : null}
            </div>
          );
        })}
      </div>
      {rows.length > 0 && (
        <p className="keys mt-2 text-[12.5px] text-second">
          <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open
        </p>
      )}
    </>
  );
}

const Cell = ({ look = "", children }: { look?: string; children: ReactNode }) => (
  <span role="gridcell" className={look}>
    {children}
  </span>
);

const priority = (text: string) => /priority (critical|high|medium|low)/.exec(text)?.[1] ?? "low";

/** A type that has no decoder: nothing of it fails, its messages wait. */
function Bare({ t, to }: { t: Schemas["TypeOut"]; to: string }) {
  return (
    <>
      <Cell look="truncate">
        <Link to={to} className="row-link font-semibold hover:underline">
          {t.key}
        </Link>
      </Cell>
      <Cell look="truncate text-second">{t.title}</Cell>
      <Cell look="hidden md:block">{t.waiting_today ? <b>no decoder yet</b> : "no decoder yet"}</Cell>
      <Cell look={`hidden text-right md:block ${t.waiting_today ? "font-bold" : "text-second"}`}>
        {t.waiting_today ? `${counted(t.waiting_today, "message")} of 24 h ${waits(t.waiting_today)}` : "nothing waits"}
      </Cell>
    </>
  );
}

const waits = (n: number) => (n === 1 ? "waits" : "wait");

/** then: at a past moment. */
function InForce({ d, to, then }: { d: Definition; to: string; then: boolean }) {
  const decoder = d.kind === "decoder";
  const waiting = d.live ? 0 : (d.waiting_today ?? 0);
  const wrong = decoder ? d.refused_today || waiting : d.open_alarms;
  return (
    <>
      <Cell look="flex min-w-0 items-center gap-2">
        {!decoder && <PriorityMark priority={priority(d.live?.text ?? d.draft ?? "")} size={12} />}
        <Link to={to} className="row-link truncate font-semibold hover:underline">
          {d.name}
        </Link>
      </Cell>
      <Cell look="truncate text-second">{d.type_title}</Cell>
      <Cell look="hidden min-w-0 md:block">
        {d.live ? (
          <>
            version {d.live.number} <span className="text-second">by {d.live.who}, </span>
            <span className="text-second">
              <At at={d.live.at} />
            </span>
          </>
        ) : (
          <b>{d.retired ? "ended" : then ? "not in force then" : "a draft, not published yet"}</b>
        )}
        {d.live && !then && d.draft !== d.live.text && (
          <span className="ml-2 border border-line px-1.5 text-[12px]">draft differs</span>
        )}
        {d.off_until && (
          <b className="block truncate" title={d.off_why}>
            off until <At at={d.off_until} />
          </b>
        )}
        {d.trouble && (
          <b className="block truncate" title={d.trouble}>
            <span aria-hidden className="font-mono">
              !{" "}
            </span>
            no longer reads well: {d.trouble}
          </b>
        )}
      </Cell>
      <Cell look={`hidden text-right md:block ${wrong ? "font-bold" : "text-second"}`}>
        {!decoder
          ? d.open_alarms
            ? `${d.open_alarms} open`
            : "none open"
          : waiting
            ? `${counted(waiting, "message")} of 24 h ${waits(waiting)}`
            : d.refused_today
              ? `${d.refused_today} refused in 24 h`
              : "none refused"}
      </Cell>
      {d.sentence && (
        <Cell look="col-span-full -mt-2 truncate pb-1 text-[12.5px] text-second">
          <span title={d.sentence}>{d.sentence}</span>
        </Cell>
      )}
    </>
  );
}
