import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, got } from "../../api/client";
import { Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { Toggles } from "../../parts/filters";
import { useKeys, useNow } from "../../parts/keys";
import { useLookback } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { useWhy, whyAlarm } from "../../parts/why";
import { Journal } from "./journal";
import { AlarmRow } from "./row";
import { Summary } from "./summary";

const STALE = ["alarms", "journal", "overview", "devices", "device", "why"];

export default function Alarms() {
  const [params, setParams] = useSearchParams();
  const lookback = useLookback();
  const now = useNow(5000);
  const client = useQueryClient();
  const operator = useMay("operator");
  const why = useWhy();
  const [noting, setNoting] = useState<number | null>(null);
  const tab = params.get("show") ?? "open";
  const show = (value: string) =>
    setParams(
      (old) => {
        const fresh = new URLSearchParams(old);
        if (value === "open") fresh.delete("show");
        else fresh.set("show", value);
        return fresh;
      },
      { replace: true },
    );
  const open = useQuery({
    queryKey: ["alarms", "list", tab, ...lookback.key],
    enabled: tab !== "journal",
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/alarms", {
          signal,
          params: {
            query: {
              show: tab,
              limit: 100,
              ...(tab === "all" ? lookback.query() : lookback.to ? { to: lookback.to.toISOString() } : {}),
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const rows = tab === "journal" ? [] : (open.data?.results ?? []);
  const chosen = useChosen(rows, (a) => a.id, open.isPlaceholderData ? null : [tab, ...lookback.key].join());
  const current = chosen.current;
  const after = () => client.invalidateQueries({ predicate: (q) => STALE.includes(String(q.queryKey[0])) });
  const acknowledge = useMutation({
    mutationFn: (id: number) =>
      got(api.POST("/api/v1/alarms/{ident}/acknowledge", { params: { path: { ident: id } }, body: {} })),
    onMutate: () => giveBack.reset(),
    onSuccess: after,
  });
  const giveBack = useMutation({
    mutationFn: (id: number) =>
      got(api.DELETE("/api/v1/alarms/{ident}/acknowledge", { params: { path: { ident: id } } })),
    onSuccess: () => {
      acknowledge.reset();
      return after();
    },
  });
  const taken = acknowledge.data;
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    a: () => current && !current.acknowledged_at && operator && acknowledge.mutate(current.id),
    z: () => taken && giveBack.mutate(taken.id),
    w: () => current && why(whyAlarm(current.id)),
    n: () => current && operator && setNoting(current.id),
  });
  const asOf = lookback.to ?? now;
  return (
    <>
      <Heading
        title="Alarms"
        about={
          open.data &&
          tab === "open" && (
            <>
              <b className="text-ink">{open.data.count} open</b>, {open.data.unacknowledged} that nobody has taken
            </>
          )
        }
      >
        <Toggles
          label="Show"
          value={tab}
          options={[
            ["open", "Open"],
            ["all", "In the lookback"],
            ["journal", "Journal"],
          ]}
          onChange={show}
        />
      </Heading>
      <Trouble
        error={open.error ?? acknowledge.error ?? giveBack.error}
        {...(open.error ? { retry: () => void open.refetch() } : {})}
      />
      <p
        role="status"
        className={taken ? "mb-2 flex items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1" : ""}
      >
        {taken && (
          <>
            <span className="min-w-0 truncate">
              You took <b>{taken.text}</b>
            </span>
            <button type="button" className="link ml-auto shrink-0" onClick={() => giveBack.mutate(taken.id)}>
              <Key>Z</Key> give it back
            </button>
          </>
        )}
      </p>
      {tab === "journal" ? (
        <Journal />
      ) : (
        <>
          {open.isPending && <Waiting what="the alarms" />}
          {open.data && rows.length === 0 && (
            <Empty title={tab === "open" ? "No alarm is open." : "No alarm in the lookback."}>
              {tab === "open" ? "The journal tells what was." : "Widen the lookback below."}
            </Empty>
          )}
          <div className="rows" role="grid" aria-label="Alarms" aria-colcount={4}>
            {rows.map((a) => (
              <AlarmRow
                key={a.id}
                alarm={a}
                row={chosen.row(a)}
                asOf={asOf}
                operator={operator}
                acknowledge={() => acknowledge.mutate(a.id)}
                giveBack={() => giveBack.mutate(a.id)}
                noting={noting === a.id}
                setNoting={(on) => setNoting(on ? a.id : null)}
                after={after}
              />
            ))}
          </div>
          {open.data && open.data.count > rows.length && (
            <p className="mt-2 text-second">
              {rows.length} of {open.data.count.toLocaleString("en")} are shown, the worst first.
            </p>
          )}
          {rows.length > 0 && <Hints operator={operator} />}
          {tab === "open" && <Summary />}
        </>
      )}
    </>
  );
}

function Hints({ operator }: { operator: boolean }) {
  return (
    <p className="mt-3 flex flex-wrap gap-4 text-[12.5px] text-second">
      <span className="keys">
        <Key>↑</Key> <Key>↓</Key> walk
      </span>
      {operator && (
        <>
          <span className="keys">
            <Key>A</Key> acknowledge
          </span>
          <span className="keys">
            <Key>N</Key> note
          </span>
        </>
      )}
      <span className="keys">
        <Key>W</Key> why?
      </span>
      <span className="flex flex-wrap items-center gap-3 md:ml-auto">
        {["critical", "high", "medium", "low"].map((p) => (
          <span key={p} className="flex items-center gap-1">
            <PriorityMark priority={p} size={12} /> {p}
          </span>
        ))}
        <span className="flex items-center gap-1">
          <PriorityMark priority="high" taken={false} size={12} /> not taken
        </span>
      </span>
    </p>
  );
}
