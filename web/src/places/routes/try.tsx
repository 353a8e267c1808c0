import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { ofTypes, ofArrivals } from "../../api/queries";
import { named, useAddress, word } from "../../parts/address";
import { At, Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Pick } from "../../parts/filters";
import { useKeys } from "../../parts/keys";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Begin } from "../definitions/begin";
import { ofTry } from "./queries";
import { Way } from "./way";

const ADDRESS = { type: word, topic: word, device: word, message: named };

/** What arrives, live, with what each message becomes on its way through the routes; a route is begun from there. */
export default function Watching() {
  const kept = useKept();
  const lookback = useLookback();
  const [{ type, topic, device, message: asked }, put] = useAddress(ADDRESS, { ends: "message" });
  const engineer = useMay("engineer");
  const [adding, setAdding] = useState(false);
  const types = useQuery(ofTypes());
  const arrivals = useQuery({
    ...ofArrivals({
      limit: 40,
      ...(type ? { type } : {}),
      ...(device ? { device } : {}),
      ...(topic ? { topic } : {}),
      ...(lookback.to ? { to: lookback.to.toISOString() } : {}),
    }),
    placeholderData: (old) => old,
    refetchInterval: lookback.live ? 3_000 : false,
  });
  const rows = (arrivals.data?.results ?? []).filter((r) => r.device !== null);
  const chosen = useChosen(
    rows,
    (row) => row.id,
    arrivals.isPlaceholderData ? null : `watch ${type} ${topic} ${device}`,
  );
  const message = asked ?? chosen.current?.id ?? null;
  const tried = useQuery({
    ...ofTry({ message, topic: "" }),
    enabled: message !== null,
    retry: false,
    placeholderData: keepPreviousData,
  });
  useKeys({ ArrowDown: () => chosen.walk(1), ArrowUp: () => chosen.walk(-1) });
  const at = rows.find((r) => r.id === message);
  return (
    <>
      <Heading title="Watch arrivals" about="Each message as it is decoded, and what the routes in force make of it">
        <Link className="button inline-flex items-center" to={kept("/routes")}>
          The book
        </Link>
        {engineer && (
          <button type="button" className="button strong" aria-expanded={adding} onClick={() => setAdding(!adding)}>
            Begin a route{at ? " with this" : ""}
          </button>
        )}
      </Heading>
      {adding && (
        <Begin key={at?.type ?? ""} kind="route" taken={[]} type={at?.type ?? type} message={message} topic={topic} />
      )}
      <p className="mb-3 flex flex-wrap items-center gap-2">
        <Pick
          label="Device type"
          value={type}
          options={[["", "all types"], ...(types.data?.results ?? []).map((t): [string, string] => [t.key, t.title])]}
          onChange={(v) => put({ type: v })}
        />
        <input
          className="input !w-72 font-mono text-[12.5px]"
          aria-label="Topic, with + and #"
          placeholder="topic, such as growers/+/up"
          value={topic}
          onChange={(e) => put({ topic: e.target.value })}
        />
        <span role="status" className="text-[12.5px] text-second">
          {lookback.live ? "live" : "as of the lookback's cursor"}
        </span>
      </p>
      <Trouble error={arrivals.error} retry={() => void arrivals.refetch()} />
      {arrivals.isPending && <Waiting what="what arrives" />}
      {arrivals.data && rows.length === 0 && (
        <Empty title="Nothing like that has arrived.">Widen the choice above, or wait: it is watched.</Empty>
      )}
      {rows.length > 0 && (
        <div className="grid gap-6 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
          <div>
            <div className="rows" role="grid" aria-label="Arrivals">
              {rows.map((r) => {
                const own = chosen.row(r);
                return (
                  <div
                    key={r.id}
                    {...own}
                    className={`row-line grid grid-cols-[84px_minmax(0,1fr)_auto] items-center gap-2 px-2 ${
                      r.id === message ? "is-selected" : ""
                    }`}
                    onClick={() => put({ message: null })}
                  >
                    <span role="gridcell" className="font-mono text-[12px]">
                      <At at={r.received_at} />
                    </span>
                    <span role="gridcell" className="truncate">
                      <b>{r.device_title}</b> <span className="font-mono text-[12px] text-second">{r.topic}</span>
                    </span>
                    <span role="gridcell" className="text-[12.5px] text-second">
                      {r.outcome === "decoded" ? `${r.size} bytes` : r.outcome}
                    </span>
                  </div>
                );
              })}
            </div>
            <p className="keys mt-2 text-[12.5px] text-second">
              <Key>↑</Key> <Key>↓</Key> walk
            </p>
          </div>
          <section aria-label="What becomes of it">
            <Trouble error={tried.error} />
            {tried.isPending && message && <Waiting what="its way" />}
            {tried.data && <Way tried={tried.data} />}
          </section>
        </div>
      )}
    </>
  );
}
