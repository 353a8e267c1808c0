import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { At, Empty, precisely, Trouble, unitOf, Waiting } from "../../parts/basics";
import { BitRow, HexRow, tintStyle, type Tint } from "../../parts/bytes";
import { Editor, fixed, Problems } from "../../parts/editor";
import { useKeys } from "../../parts/keys";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { TextPayload } from "../../parts/text-payload";
import { kindOf, nameFrom, spotsByPath, Tree, written, type Step } from "../../parts/tree";
import { Key } from "../../parts/marks";
import { exact } from "../../parts/time";
import { useDraft, useSettled, useWords } from "./draft";
import { DefinitionHead } from "./head";
import { Cases } from "./cases";
import { Trial } from "./decoder-trial";
import { Failing } from "./failing";
import { FromTable } from "./from-table";
import { Guesses } from "./guess";
import { LineForm } from "./line-form";
import { useProgress } from "./progress";
import { RolloutStrip } from "./rollout";

export default function DecoderScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const [line, setLine] = useState<number | null>(null);
  const [cursor, setCursor] = useState<number | null>(null);
  const type = draft.definition.data?.type ?? "";
  const types = useQuery({ queryKey: ["types"], queryFn: () => got(api.GET("/api/v1/types")) });
  const own = types.data?.results.find((t) => t.key === type);
  const words = useWords(
    (own?.fields ?? []).map((f) => f.name),
    [],
    [type],
  );
  const sample = useSample(type);
  const trial = useProgress(`/api/v1/definitions/${id}/trial/progress`);
  const engineer = useMay("engineer");
  const [picked, setPicked] = useState<[number, number] | null>(null);
  const decoded = useQuery({
    queryKey: ["decode", type, draft.settled, sample.hex, sample.at],
    enabled: sample.hex !== null && draft.ready && draft.sound,
    queryFn: () =>
      got(
        api.POST("/api/v1/decode", {
          body: {
            text: draft.settled,
            type,
            payload_hex: sample.hex ?? "",
            ...(sample.at ? { received_at: sample.at } : {}),
            ...sample.beside,
          },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  });
  const marks = useMemo(() => decoded.data?.marks ?? [], [decoded.data]);
  const untaken = useMemo(
    () => new Set(draft.upToDate ? (decoded.data?.untaken ?? []) : []),
    [decoded.data, draft.upToDate],
  );
  const taken = useMemo(() => new Set(draft.text.match(/[a-z][a-z0-9_]*/g) ?? []), [draft.text]);
  const tintOf = useMemo(() => new Map([...new Set(marks.map((m) => m.line))].map((l, i) => [l, i])), [marks]);
  const byByte = useMemo(() => {
    const found = new Map<number, Tint[]>();
    for (const m of marks)
      for (const p of m.places)
        for (let b = p.first; b <= p.last; b += 1) {
          const list = found.get(b) ?? [];
          if (!list.some((t) => t.line === m.line))
            list.push({ tint: tintOf.get(m.line) ?? 0, line: m.line, field: m.field });
          found.set(b, list);
        }
    const bytes = (sample.hex?.length ?? 0) / 2;
    for (let b = bytes - (decoded.data?.tail ?? 0); b < bytes; b += 1)
      if (b >= 0 && !found.has(b)) found.set(b, [{ tint: 17, line: 0, field: "check" }]);
    return found;
  }, [marks, tintOf, sample.hex, decoded.data]);
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the decoder" />;
  // What is on show belongs to the text and the message that are on show.
  const settled = draft.upToDate && !sample.pending && !decoded.isFetching && !decoded.isPlaceholderData;
  const lit = new Set<number>();
  const current = marks.filter((m) => m.line === line);
  for (const m of current) for (const p of m.places) for (let b = p.first; b <= p.last; b += 1) lit.add(b);
  const first = current[0]?.places[0];
  return (
    <>
      <DefinitionHead draft={draft} about={<>{own?.devices ?? 0} devices run it</>} />
      <RolloutStrip
        id={id}
        busy={trial.run.isPending}
        compare={(text) => trial.run.mutate({ text, messages: 20_000, chosen: true })}
      />
      <Failing id={id} />
      {draft.conflict && <Trouble error={draft.save.error} retry={() => window.location.reload()} />}
      <div className="grid gap-x-8 gap-y-4 xl:grid-cols-[minmax(0,1.55fr)_minmax(390px,1fr)]">
        <section className="min-w-0" aria-label="Text">
          <h2 className="mb-1">
            What the data sheet says{" "}
            <span>
              · text; <Key>Ctrl Space</Key> completes
            </span>{" "}
            {engineer && <FromTable name={type} take={draft.setText} />}
          </h2>
          <Editor
            label="Decoder text"
            value={draft.text}
            onChange={draft.setText}
            problems={draft.problems}
            words={words}
            lit={line}
            tints={tintOf}
            untaken={untaken}
            onLine={(n) => {
              setLine(n);
              setCursor(n);
            }}
          />
          {engineer && <LineForm text={draft.text} line={cursor} words={words} setText={draft.setText} />}
          <Problems problems={draft.problems} onFix={(p) => draft.setText(fixed(draft.text, p))} />
        </section>
        <section className="min-w-0" aria-label="Message">
          <Sample sample={sample} type={type} />
          {sample.hex !== null && (
            <>
              {decoded.data?.document ? (
                <Tree
                  document={decoded.data.document}
                  spots={spotsByPath(marks, tintOf)}
                  line={line}
                  onLine={setLine}
                  {...(engineer
                    ? {
                        onPick: (path: Step[], value: unknown) =>
                          draft.setText(
                            added(draft.text, `  at ${written(path)}  ${nameFrom(path, taken)}  ${kindOf(value)}`),
                          ),
                      }
                    : {})}
                />
              ) : sample.text !== null ? (
                <TextPayload hex={sample.hex} marks={marks} tintOf={tintOf} line={line} onLine={setLine} />
              ) : (
                <HexRow
                  hex={sample.hex}
                  tints={decoded.data ? byByte : undefined}
                  lit={lit}
                  onHover={(b) => b !== null && setLine(byByte.get(b)?.[0]?.line || null)}
                  picked={picked}
                  {...(engineer
                    ? {
                        onPick: (b: number) =>
                          setPicked((old) =>
                            old && old[0] === old[1] && b !== old[0] && Math.abs(b - old[0]) < 8
                              ? [Math.min(old[0], b), Math.max(old[0], b)]
                              : [b, b],
                          ),
                      }
                    : {})}
                />
              )}
              {picked && sample.text === null && sample.hex && picked[1] < sample.hex.length / 2 && (
                <Guesses
                  key={`${picked[0]} ${picked[1]}`}
                  type={type}
                  device={sample.arrival?.device ?? null}
                  hex={sample.hex}
                  first={picked[0]}
                  last={picked[1]}
                  taken={taken}
                  write={(written) => {
                    draft.setText(added(draft.text, written));
                    setPicked(null);
                  }}
                  close={() => setPicked(null)}
                />
              )}
              {decoded.data && sample.text === null && decoded.data.unread > 0 && (
                <p className="mt-1 text-[12.5px]">
                  <b>{decoded.data.unread} bytes at the end</b> are read by nothing.
                </p>
              )}
              <div className="mt-1.5 min-h-6">
                {first && sample.hex && sample.text === null && <BitRow hex={sample.hex} {...first} />}
              </div>
              <Verdict
                decoded={decoded.data}
                error={decoded.error}
                blocked={draft.errors.length > 0}
                setLine={setLine}
              />
              <Values decoded={decoded.data} marks={marks} tintOf={tintOf} line={line} setLine={setLine} />
            </>
          )}
          {sample.hex === null && !sample.pending && (
            <Empty title="No message of this type has arrived yet.">
              Paste one above as hexadecimal digits or as text, or{" "}
              <Link className="link" to={kept("/devices")}>
                send one from a device
              </Link>
              .
            </Empty>
          )}
        </section>
      </div>
      <Cases id={id} draft={draft} sample={sample} decoded={decoded.data} settled={settled} />
      <Trial id={id} draft={draft} type={type} trial={trial} />
    </>
  );
}

/** A text with one line more at its end, before its commands. */
function added(text: string, line: string): string {
  const rows = text.replace(/\n+$/, "").split("\n");
  const at = rows.findIndex((r) => /^ {2}command\b/.test(r));
  rows.splice(at < 0 ? rows.length : at, 0, line);
  return `${rows.join("\n")}\n`;
}

type SampleState = ReturnType<typeof useSample>;

/** What a message came with besides its payload. */
type Kept = {
  received_at: string;
  headers: Record<string, string>;
  constants: Record<string, unknown>;
  previous_hex: string | null;
};
const besides = (m: Kept | null | undefined) =>
  m ? { headers: m.headers, constants: m.constants, previous_hex: m.previous_hex } : {};

/** The message that the draft is tried on: one of the last arrivals, or a pasted one. */
function useSample(type: string) {
  const [params, setParams] = useSearchParams();
  const [pasted, setPasted] = useState<string | null>(null);
  const [kept, setKept] = useState<Kept | null>(null);
  const outcome = params.get("outcome") ?? "";
  const device = params.get("device") ?? "";
  const list = useQuery({
    queryKey: ["samples", type, outcome, device],
    enabled: Boolean(type),
    queryFn: async () => {
      const find = (o: string) =>
        got(
          api.GET("/api/v1/arrivals", {
            params: { query: { type, limit: 40, ...(o ? { outcome: o } : {}), ...(device ? { device } : {}) } },
          }),
        );
      if (outcome) return (await find(outcome)).results;
      // Failing ones first: they are what a decoder is mended for.
      const [refused, waiting, all] = await Promise.all([find("refused"), find("no decoder"), find("")]);
      const seen = new Set<string>();
      return [...refused.results.slice(0, 10), ...waiting.results.slice(0, 10), ...all.results].filter(
        (m) => !seen.has(m.id) && seen.add(m.id),
      );
    },
  });
  const wanted = params.get("message");
  const rows = list.data ?? [];
  const listed = rows.findIndex((r) => r.id === wanted);
  const chosen = wanted ?? rows[0]?.id ?? null;
  const one = useQuery({
    queryKey: ["arrival", chosen],
    enabled: Boolean(chosen) && pasted === null,
    queryFn: () => got(api.GET("/api/v1/arrivals/{ident}", { params: { path: { ident: Number(chosen) } } })),
    placeholderData: keepPreviousData,
  });
  const pick = (id: string | undefined) => {
    if (!id) return;
    setPasted(null);
    setParams(
      (old) => {
        const fresh = new URLSearchParams(old);
        fresh.set("message", id);
        return fresh;
      },
      { replace: true },
    );
  };
  const filter = (name: "outcome" | "device", value: string) => {
    setPasted(null);
    setParams(
      (old) => {
        const fresh = new URLSearchParams(old);
        if (value) fresh.set(name, value);
        else fresh.delete(name);
        fresh.delete("message");
        return fresh;
      },
      { replace: true },
    );
  };
  const settled = useSettled(pasted, 200);
  const pastedHex = settled === null ? null : asHex(settled);
  return {
    pasted,
    setPasted: (text: string | null, beside: Kept | null = null) => {
      setPasted(text);
      setKept(beside);
    },
    outcome,
    device,
    filter,
    rows,
    position: listed < 0 ? 0 : listed,
    pick,
    step: (by: number) => pick(rows[Math.min(Math.max((listed < 0 ? 0 : listed) + by, 0), rows.length - 1)]?.id),
    arrival: pasted === null ? one.data : undefined,
    hex: pasted === null ? (one.data?.hex ?? null) : pastedHex,
    text: pasted === null ? (one.data?.text ?? null) : settled && pastedHex && !isHex(settled) ? settled : null,
    at: pasted === null ? (one.data?.received_at ?? null) : (kept?.received_at ?? null),
    beside: besides(pasted === null ? one.data : kept),
    pending: list.isPending || one.isFetching,
    error: list.error ?? one.error,
  };
}

const isHex = (text: string) => /^[0-9a-fA-F\s]*$/.test(text) && text.replace(/\s/g, "").length % 2 === 0;
function asHex(text: string): string {
  if (isHex(text)) return text.replace(/\s/g, "").toLowerCase();
  return [...new TextEncoder().encode(text)].map((b) => b.toString(16).padStart(2, "0")).join("");
}

function Sample({ sample, type }: { sample: SampleState; type: string }) {
  useKeys({ "Alt+ArrowUp": () => sample.step(-1), "Alt+ArrowDown": () => sample.step(1) });
  const m = sample.arrival;
  return (
    <div className="mb-2">
      <h2 className="mb-1 flex flex-wrap items-baseline gap-x-2">
        What arrived
        {m && (
          <span title={exact(new Date(m.received_at))}>
            · {m.device_title}, <At at={m.received_at} />, {sample.position + 1} of {sample.rows.length}
          </span>
        )}
        <span className="ml-auto flex gap-1">
          <button
            type="button"
            className="min-h-6"
            aria-label="the message before"
            disabled={sample.position === 0}
            onClick={() => sample.step(-1)}
          >
            <Key>Alt ↑</Key>
          </button>
          <button type="button" className="min-h-6" aria-label="the next message" onClick={() => sample.step(1)}>
            <Key>Alt ↓</Key>
          </button>
        </span>
      </h2>
      <Trouble error={sample.error} />
      {sample.pasted === null && (
        <div className="mb-1.5 flex flex-wrap gap-2">
          <select
            className="input !w-auto"
            aria-label="Which messages"
            value={sample.outcome}
            onChange={(e) => sample.filter("outcome", e.target.value)}
          >
            <option value="">failing first</option>
            <option value="refused">refused ones</option>
            <option value="decoded">decoded ones</option>
            <option value="no decoder">without a decoder</option>
          </select>
          <DevicePick type={type} value={sample.device} onPick={(d) => sample.filter("device", d)} />
        </div>
      )}
      <div className="flex flex-wrap gap-2">
        {sample.pasted === null ? (
          <>
            <select
              className="input !w-auto max-w-full"
              aria-label="Message"
              value={m?.id ?? ""}
              onChange={(e) => sample.pick(e.target.value)}
            >
              {sample.rows.length === 0 && <option value="">no message of {type}</option>}
              {m && !sample.rows.some((r) => r.id === m.id) && <option value={m.id}>{m.device_title} (chosen)</option>}
              {sample.rows.map((r) => (
                <option key={r.id} value={r.id}>
                  {r.device_title}, {r.size} B, {r.outcome === "refused" ? r.reason : r.outcome}
                </option>
              ))}
            </select>
            <button type="button" className="link" onClick={() => sample.setPasted("")}>
              paste one
            </button>
          </>
        ) : (
          <>
            <textarea
              className="input font-mono text-[12.5px]"
              rows={2}
              aria-label="Pasted payload"
              placeholder="10 04 71 … or a text"
              autoFocus
              value={sample.pasted}
              onChange={(e) => sample.setPasted(e.target.value)}
            />
            <button type="button" className="link" onClick={() => sample.setPasted(null)}>
              back to what arrived
            </button>
          </>
        )}
      </div>
    </div>
  );
}

const LISTED = 500;

/** One device of the type, or all of them. */
function DevicePick({ type, value, onPick }: { type: string; value: string; onPick: (device: string) => void }) {
  const devices = useQuery({
    queryKey: ["devices", "names", type],
    enabled: Boolean(type),
    queryFn: () => got(api.GET("/api/v1/devices", { params: { query: { type, limit: LISTED, order: "name" } } })),
    staleTime: 60_000,
  });
  return (
    <select
      className="input !w-auto"
      aria-label="Of which device"
      value={value}
      onChange={(e) => onPick(e.target.value)}
    >
      <option value="">of any device</option>
      {value && !devices.data?.results.some((d) => d.name === value) && <option value={value}>{value}</option>}
      {devices.data?.results.map((d) => (
        <option key={d.name} value={d.name}>
          {d.title}
        </option>
      ))}
    </select>
  );
}

function Verdict({
  decoded,
  error,
  blocked,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  error: unknown;
  blocked: boolean;
  setLine: (line: number) => void;
}) {
  if (blocked) return <p className="text-second">Values wait until the text is right.</p>;
  if (error) return <Trouble error={error} />;
  if (!decoded?.error) return null;
  const e = decoded.error;
  return (
    <div role="alert" className="my-1 border-l-3 border-ink bg-raised px-3 py-1.5">
      <b>Refused, {e.code}:</b> {e.message}{" "}
      {e.line > 0 && (
        <button type="button" className="link" onClick={() => setLine(e.line)}>
          line {e.line}
        </button>
      )}
    </div>
  );
}

function Values({
  decoded,
  marks,
  tintOf,
  line,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  marks: Schemas["MarkOut"][];
  tintOf: Map<number, number>;
  line: number | null;
  setLine: (line: number) => void;
}) {
  if (!decoded?.values.length) return null;
  return (
    <>
      <h2 className="mt-2 mb-1">
        What it says <span>· value, unit, raw</span>
      </h2>
      <ul className="rows" aria-label="Values">
        {decoded.values.slice(0, 80).map((v, i) => {
          const turn = decoded.values.slice(0, i).filter((x) => x.field === v.field).length;
          const mark =
            marks.find((m) => m.field === v.field && m.turn === turn) ?? marks.find((m) => m.field === v.field);
          const on = mark !== undefined && mark.line === line;
          return (
            <li key={i}>
              <button
                type="button"
                className={`row-line !min-h-7 grid w-full grid-cols-[8px_minmax(0,1fr)_minmax(0,1.1fr)_minmax(0,90px)] items-center gap-2 text-left ${on ? "is-selected" : ""}`}
                onMouseEnter={() => mark && setLine(mark.line)}
                onFocus={() => mark && setLine(mark.line)}
              >
                <span className="h-5" style={mark ? tintStyle(tintOf.get(mark.line) ?? 0) : undefined} />
                <span className="truncate">{v.field}</span>
                <span className="truncate">
                  {v.missing ? <span>missing: {v.missing}</span> : <b>{v.text ?? precisely(v.value, v)}</b>}{" "}
                  <span className="unit">{v.missing ? "" : unitOf(v.unit)}</span>
                </span>
                <span className="truncate text-right font-mono text-[12px] text-second">
                  {mark?.raw?.map(String).join(", ") ?? (mark?.paths ?? []).join(", ")}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
    </>
  );
}
