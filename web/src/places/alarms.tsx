import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { At, Empty, Heading, Trouble, Waiting } from "../parts/basics";
import { Toggles } from "../parts/filters";
import { useKeys, useNow } from "../parts/keys";
import { spanWord, useKept, useLookback } from "../parts/lookback-state";
import { Key, PriorityMark } from "../parts/marks";
import { useMay } from "../parts/me";
import { Pages } from "../parts/pages";
import { lasting } from "../parts/time";
import { useWhy, whyAlarm } from "../parts/why";
import { counted } from "../parts/words";

type Alarm = Schemas["AlarmOut"];

export default function Alarms() {
  const [params, setParams] = useSearchParams();
  const lookback = useLookback();
  const kept = useKept();
  const now = useNow(5000);
  const client = useQueryClient();
  const operator = useMay("operator");
  const why = useWhy();
  const [at, setAt] = useState(0);
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
    queryFn: () =>
      got(
        api.GET("/api/v1/alarms", {
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
  const chosen = Math.min(at, Math.max(rows.length - 1, 0));
  const current = rows[chosen];
  const after = () =>
    client.invalidateQueries({
      predicate: (q) => ["alarms", "journal", "overview", "devices", "why"].includes(String(q.queryKey[0])),
    });
  const acknowledge = useMutation({
    mutationFn: (id: number) =>
      got(api.POST("/api/v1/alarms/{ident}/acknowledge", { params: { path: { ident: id } }, body: {} })),
    onSuccess: after,
  });
  const walk = (by: number) => {
    const next = Math.min(Math.max(chosen + by, 0), rows.length - 1);
    setAt(next);
    document.getElementById(`alarm-${next}`)?.scrollIntoView({ block: "nearest" });
  };
  useKeys({
    ArrowDown: () => walk(1),
    ArrowUp: () => walk(-1),
    a: () => current && !current.acknowledged_at && operator && acknowledge.mutate(current.id),
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
      <Trouble error={open.error ?? acknowledge.error} retry={() => void open.refetch()} />
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
          <ul className="rows" aria-label="Alarms">
            {rows.map((a, i) => (
              <Row
                key={a.id}
                alarm={a}
                index={i}
                chosen={i === chosen}
                choose={() => setAt(i)}
                asOf={asOf}
                kept={kept}
                operator={operator}
                acknowledge={() => acknowledge.mutate(a.id)}
                noting={noting === a.id}
                setNoting={(on) => setNoting(on ? a.id : null)}
                after={after}
              />
            ))}
          </ul>
          {rows.length > 0 && (
            <p className="mt-3 flex flex-wrap gap-4 text-[12.5px] text-second">
              <span>
                <Key>↑</Key> <Key>↓</Key> walk
              </span>
              {operator && (
                <>
                  <span>
                    <Key>A</Key> acknowledge
                  </span>
                  <span>
                    <Key>N</Key> note
                  </span>
                </>
              )}
              <span>
                <Key>W</Key> why?
              </span>
              <span className="ml-auto flex items-center gap-3">
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
          )}
          {tab === "open" && <Summary />}
        </>
      )}
    </>
  );
}

/** What the lookback held, by condition: which cries often, and on which device. */
function Summary() {
  const lookback = useLookback();
  const kept = useKept();
  const summary = useQuery({
    queryKey: ["alarms", "summary", ...lookback.key],
    queryFn: () => got(api.GET("/api/v1/alarms/summary", { params: { query: lookback.query() } })),
    placeholderData: keepPreviousData,
  });
  const rows = summary.data ?? [];
  return (
    <section className="mt-8">
      <h2 className="mb-1">
        Raised in {spanWord(lookback.spanS)} <span>· by condition, most often first</span>
      </h2>
      <Trouble error={summary.error} />
      {summary.data && rows.length === 0 && <p className="py-1 text-second">Nothing was raised.</p>}
      <ul className="rows">
        {rows.map((r) => (
          <li
            key={r.definition}
            className="row-line grid grid-cols-[28px_minmax(0,1fr)_minmax(0,1fr)] items-center gap-2 md:grid-cols-[28px_minmax(0,1.2fr)_150px_minmax(0,1.3fr)_170px]"
          >
            <span className="pl-2">
              <PriorityMark priority={r.priority} size={12} />
            </span>
            <Link className="truncate font-semibold hover:underline" to={kept(`/conditions/${r.definition}`)}>
              {r.condition}
            </Link>
            <span>
              <b>{r.raised}</b> on {counted(r.devices, "device")}
            </span>
            <span className="hidden truncate text-second md:block">
              {r.most_count > 1 && r.most_count >= 10
                ? `${r.most_device} alone ${r.most_count} times: widen its deadband?`
                : r.most_count > 1
                  ? `${r.most_device} most often, ${r.most_count} times`
                  : ""}
            </span>
            <span className="hidden text-right text-second md:block">
              last <At at={r.last_at} />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Row({
  alarm: a,
  index,
  chosen,
  choose,
  asOf,
  kept,
  operator,
  acknowledge,
  noting,
  setNoting,
  after,
}: {
  alarm: Alarm;
  index: number;
  chosen: boolean;
  choose: () => void;
  asOf: Date;
  kept: ReturnType<typeof useKept>;
  operator: boolean;
  acknowledge: () => void;
  noting: boolean;
  setNoting: (on: boolean) => void;
  after: () => unknown;
}) {
  const why = useWhy();
  const until = a.cleared_at ? new Date(a.cleared_at) : asOf;
  return (
    <li
      id={`alarm-${index}`}
      className={`py-1.5 ${chosen ? "is-selected" : ""}`}
      onMouseDown={choose}
      data-alarm={a.id}
    >
      <div className="grid grid-cols-[28px_minmax(0,1fr)_auto] items-center gap-2 md:grid-cols-[28px_minmax(0,1fr)_150px_190px]">
        <span className="pl-2">
          <PriorityMark priority={a.priority} taken={Boolean(a.acknowledged_at)} />
        </span>
        <div className="min-w-0">
          <div className={`text-[15px] md:truncate ${a.acknowledged_at ? "" : "font-bold"}`}>{a.text}</div>
          <div className="truncate text-[12.5px] text-second">
            {a.priority} ·{" "}
            <Link className="hover:underline" to={kept(`/conditions/${a.definition}`)}>
              {a.condition}
            </Link>{" "}
            ·{" "}
            <Link className="hover:underline" to={kept(`/devices/${a.device}`)}>
              {a.device_title}
            </Link>
            , {a.site_title ?? "no site"}
          </div>
        </div>
        <div className="hidden text-right md:block">
          <div>
            since <At at={a.raised_at} />
          </div>
          <div className="text-[12.5px] text-second">
            {a.cleared_at ? "lasted " : "for "}
            {lasting((until.getTime() - new Date(a.raised_at).getTime()) / 1000)}
          </div>
        </div>
        <div className="flex items-center justify-end gap-2 pr-2">
          {a.acknowledged_at ? (
            <span className="text-[12.5px] text-second">taken by {a.acknowledged_by}</span>
          ) : operator ? (
            <button type="button" className="button" onClick={acknowledge}>
              Acknowledge
            </button>
          ) : (
            <b>nobody</b>
          )}
          <button type="button" className="link" onClick={() => why(whyAlarm(a.id))}>
            why?
          </button>
        </div>
      </div>
      {noting && <Note id={a.id} close={() => setNoting(false)} after={after} />}
    </li>
  );
}

function Note({ id, close, after }: { id: number; close: () => void; after: () => unknown }) {
  const input = useRef<HTMLInputElement>(null);
  const save = useMutation({
    mutationFn: (note: string) =>
      got(api.POST("/api/v1/alarms/{ident}/note", { params: { path: { ident: id } }, body: { note } })),
    onSuccess: () => {
      after();
      close();
    },
  });
  return (
    <form
      className="flex items-center gap-2 py-1 pl-10"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(input.current?.value ?? "");
      }}
    >
      <input
        ref={input}
        autoFocus
        className="input max-w-xl"
        aria-label="Note"
        maxLength={1000}
        placeholder="What was it?"
        onKeyDown={(e) => e.key === "Escape" && close()}
      />
      <button className="button" disabled={save.isPending}>
        Add the note
      </button>
      <Trouble error={save.error} />
    </form>
  );
}

function Journal() {
  const lookback = useLookback();
  const kept = useKept();
  const why = useWhy();
  const [offset, setOffset] = useState(0);
  const journal = useQuery({
    queryKey: ["journal", offset, ...lookback.key],
    queryFn: () => got(api.GET("/api/v1/journal", { params: { query: { limit: 60, offset, ...lookback.query() } } })),
    placeholderData: keepPreviousData,
  });
  if (journal.isPending) return <Waiting what="the journal" />;
  if (!journal.data) return <Trouble error={journal.error} />;
  const rows = journal.data.results;
  if (!rows.length) return <Empty title="Nothing happened in the lookback.">Widen it below.</Empty>;
  return (
    <>
      <ul className="rows" aria-label="Journal">
        {rows.map((e) => (
          <li
            key={e.id}
            className="row-line grid grid-cols-[110px_100px_minmax(0,1fr)] items-center gap-2 md:grid-cols-[130px_110px_24px_minmax(0,1fr)_minmax(0,230px)_50px]"
          >
            <span className="font-mono text-[12.5px]">
              <At at={e.at} />
            </span>
            <span className={e.what === "raised" ? "font-bold" : ""}>{e.what}</span>
            <span className="hidden md:block">
              <PriorityMark priority={e.priority} size={12} />
            </span>
            <span className="truncate">
              <Link className="font-semibold hover:underline" to={kept(`/devices/${e.device}`)}>
                {e.device_title}
              </Link>{" "}
              <span className="text-second">{e.condition}</span>
              {e.note && <span className="ml-2">“{e.note}”</span>}
            </span>
            <span className="hidden truncate text-right text-second md:block">
              {e.who ? `by ${e.who}` : e.value !== null ? `at ${Number(e.value?.toPrecision(5))} ${e.unit}` : ""}
            </span>
            <button type="button" className="link hidden text-right md:block" onClick={() => why(whyAlarm(e.alarm))}>
              why?
            </button>
          </li>
        ))}
      </ul>
      <p className="mt-2 flex items-center justify-end gap-2 text-[12.5px] text-second">
        <Pages offset={offset} size={60} count={journal.data.count} go={setOffset} words={["Newer", "Older"]} />
      </p>
    </>
  );
}
