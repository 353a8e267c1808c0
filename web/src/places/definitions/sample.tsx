import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { At, Trouble } from "../../parts/basics";
import { useKeys } from "../../parts/keys";
import { Key } from "../../parts/marks";
import { exact } from "../../parts/time";
import { useSettled } from "./draft";

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
export function useSample(type: string) {
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

export function Sample({ sample, type }: { sample: SampleState; type: string }) {
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
      {m && <Beside m={m} />}
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

/** What came beside the payload: the way in, the topic, the gateway, what the sender told. */
function Beside({ m }: { m: Schemas["WholeArrivalOut"] }) {
  const told = Object.entries(m.headers).filter(([name]) => name !== "topic");
  return (
    <p className="mb-1.5 truncate text-[12.5px] text-second">
      {m.topic ? <span className="font-mono text-[12px]">{m.topic}</span> : `over ${m.channel}`}
      {m.via && ` · through ${m.via}`}
      {told.map(([name, value]) => ` · ${name} ${value}`).join("")}
    </p>
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
