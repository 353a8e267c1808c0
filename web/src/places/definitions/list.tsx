import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, got } from "../../api/client";
import { At, Choose, Empty, Heading, TextField, Trouble, Waiting } from "../../parts/basics";
import { useKeys } from "../../parts/keys";
import { useKept } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";

/** Decoders, or conditions: what is in force, how it fares. */
export default function Definitions({ kind }: { kind: "decoder" | "condition" }) {
  const kept = useKept();
  const navigate = useNavigate();
  const engineer = useMay("engineer");
  const [params] = useSearchParams();
  const [at, setAt] = useState(0);
  const [adding, setAdding] = useState(false);
  const list = useQuery({
    queryKey: ["definitions", kind],
    queryFn: () => got(api.GET("/api/v1/definitions", { params: { query: { kind } } })),
    refetchInterval: 30_000,
  });
  const rows = list.data?.results ?? [];
  const wanted = params.get("type");
  const message = params.get("message");
  const direct = kind === "decoder" && wanted ? rows.find((d) => d.type === wanted) : undefined;
  useEffect(() => {
    if (direct) void navigate(kept(`/decoders/${direct.id}`, message ? { message } : {}), { replace: true });
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [direct?.id]);
  const walk = (by: number) => setAt(Math.min(Math.max(at + by, 0), rows.length - 1));
  useKeys({
    ArrowDown: () => walk(1),
    ArrowUp: () => walk(-1),
    Enter: () => rows[at] && void navigate(kept(`/${kind}s/${rows[at].id}`)),
  });
  const priority = (text: string) => /priority (critical|high|medium|low)/.exec(text)?.[1] ?? "low";
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
      {adding && <Begin kind={kind} taken={rows.map((r) => r.type)} />}
      <Trouble error={list.error} retry={() => void list.refetch()} />
      {list.isPending && <Waiting what={`the ${kind}s`} />}
      {list.data && rows.length === 0 && (
        <Empty title={`No ${kind} yet.`}>
          {kind === "decoder"
            ? "Begin one for a device type and write it against a real arrival."
            : "Begin one: it watches the readings of a device type."}
        </Empty>
      )}
      <ul className="rows" aria-label={`${kind}s`}>
        {rows.map((d, i) => (
          <li
            key={d.id}
            className={`row-line grid grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] items-center gap-3 px-2.5 py-1 md:grid-cols-[minmax(0,1.4fr)_150px_minmax(0,1.6fr)_130px] ${i === at ? "is-selected" : ""}`}
            onMouseDown={() => setAt(i)}
          >
            <span className="flex min-w-0 items-center gap-2">
              {kind === "condition" && <PriorityMark priority={priority(d.live?.text ?? d.draft ?? "")} size={12} />}
              <Link to={kept(`/${kind}s/${d.id}`)} className="truncate font-semibold hover:underline">
                {d.name}
              </Link>
            </span>
            <span className="truncate text-second">{d.type_title}</span>
            <span className="hidden md:block">
              {d.live ? (
                <>
                  version {d.live.number} <span className="text-second">by {d.live.who}, </span>
                  <span className="text-second">
                    <At at={d.live.at} />
                  </span>
                </>
              ) : (
                <b>{d.retired ? "retired" : "a draft, not published yet"}</b>
              )}
              {d.live && d.draft !== d.live.text && (
                <span className="ml-2 border border-line px-1.5 text-[12px]">draft differs</span>
              )}
            </span>
            <span
              className={`hidden text-right md:block ${(kind === "decoder" ? d.refused_today : d.open_alarms) ? "font-bold" : "text-second"}`}
            >
              {kind === "decoder"
                ? d.refused_today
                  ? `${d.refused_today} refused in 24 h`
                  : "none refused"
                : d.open_alarms
                  ? `${d.open_alarms} open`
                  : "none open"}
            </span>
          </li>
        ))}
      </ul>
      {rows.length > 0 && (
        <p className="mt-2 text-[12.5px] text-second">
          <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open
        </p>
      )}
    </>
  );
}

function Begin({ kind, taken }: { kind: "decoder" | "condition"; taken: string[] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const kept = useKept();
  const types = useQuery({ queryKey: ["types"], queryFn: () => got(api.GET("/api/v1/types")) });
  const free = (types.data?.results ?? []).filter((t) => kind === "condition" || !taken.includes(t.key));
  const [type, setType] = useState("");
  const [name, setName] = useState("");
  const [source, setSource] = useState("bytes, big endian");
  const key = type || free[0]?.key || "";
  const begin = useMutation({
    mutationFn: () => {
      const chosen = types.data?.results.find((t) => t.key === key);
      const first = chosen?.fields?.find((f) => f.kind === "number");
      const setpoint = chosen?.setpoints?.[0];
      const draft =
        kind === "decoder"
          ? `decoder ${key} for ${source}\n  `
          : `condition "${name}" priority medium\n  on ${key}\n  raise when ${first ? `${first.name} > ${setpoint && setpoint.unit === first.unit ? `setpoint ${setpoint.name}` : `0${first.unit && first.unit !== "1" ? ` ${first.unit}` : ""}`}` : ""} held 5 min\n`;
      return got(
        api.POST("/api/v1/definitions", { body: { kind, name: kind === "decoder" ? key : name, type: key, draft } }),
      );
    },
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["definitions"] });
      void navigate(kept(`/${kind}s/${made.id}`));
    },
  });
  return (
    <form
      className="mb-4 flex flex-wrap items-end gap-3 border-l-3 border-ink pl-4"
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate();
      }}
    >
      {kind === "condition" && (
        <TextField
          label="name"
          required
          maxLength={120}
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="oxygen is too low"
        />
      )}
      <Choose
        label="device type"
        value={key}
        onChange={(e) => setType(e.target.value)}
        options={free.map((t) => [t.key, t.title])}
      />
      {kind === "decoder" && (
        <Choose
          label="payload"
          value={source}
          onChange={(e) => setSource(e.target.value)}
          options={[
            ["bytes, big endian", "bytes, most significant first"],
            ["bytes, little endian", "bytes, least significant first"],
            ["json", "JSON"],
          ]}
        />
      )}
      <button className="button strong" disabled={begin.isPending || !key || (kind === "condition" && !name)}>
        Begin
      </button>
      {types.data && free.length === 0 && (
        <span className="text-second">Every device type has its decoder; add a type first.</span>
      )}
      <Trouble error={begin.error} />
    </form>
  );
}
