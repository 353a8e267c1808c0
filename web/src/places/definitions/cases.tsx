import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { useMay } from "../../parts/me";
import type { useDraft } from "./draft";
import { ofCases, ofRun } from "./queries";

type Decoded = Schemas["DecodeOut"] | undefined;
type Beside = { headers?: Record<string, string>; constants?: Record<string, unknown>; previous_hex?: string | null };
type Kept = {
  received_at: string;
  headers: Record<string, string>;
  constants: Record<string, unknown>;
  previous_hex: string | null;
};
type Sample = { hex: string | null; beside: Beside; setPasted: (text: string, beside: Kept) => void };
type Reading = { field: string; value: unknown; unit?: string | null; at: string; device?: string; missing?: string };
type Expectation = { readings?: Reading[]; error?: string };

/** What a decoded message says, as a case expects it. */
export function expected(decoded: NonNullable<Decoded>) {
  if (decoded.error) return { error: decoded.error.code };
  return {
    readings: decoded.values.map((v) => ({
      field: v.field,
      value: v.missing ? null : (v.text ?? (v.kind === "flag" ? Boolean(v.value) : v.value)),
      unit: v.unit,
      at: trimmed(v.at),
      ...(v.device ? { device: v.device } : {}),
      ...(v.missing ? { missing: v.missing } : {}),
    })),
  };
}

/** A moment without needless decimals of a second, as answers are written. */
const trimmed = (at: string) => at.replace(/\.(\d*?)0+Z$/, (_, d: string) => (d ? `.${d}Z` : "Z"));

/** Messages kept with the decoder, with what must come out of them; run with every change of the text. */
export function Cases({
  id,
  draft,
  sample,
  decoded,
  settled,
}: {
  id: number;
  draft: ReturnType<typeof useDraft>;
  sample: Sample;
  decoded: Decoded;
  settled: boolean;
}) {
  const client = useQueryClient();
  const engineer = useMay("engineer");
  const [name, setName] = useState("");
  const sound = draft.ready && draft.sound;
  const cases = useQuery(ofCases(id));
  const rows = cases.data?.results ?? [];
  const run = useQuery({
    ...ofRun(id, draft.settled, rows.length),
    enabled: sound && rows.length > 0,
    placeholderData: (old) => old,
    retry: false,
  });
  const again = () => client.invalidateQueries({ queryKey: ["cases", id] });
  const keep = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions/{ident}/cases", {
          params: { path: { ident: id } },
          body: {
            name: name.trim(),
            payload_hex: sample.hex ?? "",
            received_at: decoded!.received_at,
            expect: expected(decoded!),
            ...sample.beside,
            previous_hex: draft.check.data?.needs_before ? (sample.beside.previous_hex ?? null) : null,
          },
        }),
      ),
    onSuccess: () => {
      setName("");
      return again();
    },
  });
  const remove = useMutation({
    mutationFn: (one: Schemas["CaseOut"]) =>
      got(api.DELETE("/api/v1/definitions/{ident}/cases/{case}", { params: { path: { ident: id, case: one.id } } })),
    onMutate: () => putBack.reset(),
    onSuccess: again,
  });
  const putBack = useMutation({
    mutationFn: ({ name, payload_hex, received_at, expect, headers, constants, previous_hex }: Schemas["CaseOut"]) =>
      got(
        api.POST("/api/v1/definitions/{ident}/cases", {
          params: { path: { ident: id } },
          body: {
            name,
            payload_hex,
            received_at,
            previous_hex,
            expect: expect as Expectation,
            headers: headers as Record<string, string>,
            constants: constants as Record<string, unknown>,
          },
        }),
      ),
    onSuccess: () => {
      remove.reset();
      return again();
    },
  });
  const removed = remove.isSuccess ? remove.variables : null;
  const change = useMutation({
    mutationFn: ({ one, expect }: { one: number; expect: unknown }) =>
      got(
        api.PATCH("/api/v1/definitions/{ident}/cases/{case}", {
          params: { path: { ident: id, case: one } },
          body: { expect: expect as Expectation },
        }),
      ),
    onSuccess: async () => {
      await again();
      await client.invalidateQueries({ queryKey: ["cases run", id] });
    },
  });
  const [open, setOpen] = useState<number | null>(null);
  const results = new Map((run.data?.cases ?? []).map((r) => [r.id, r]));
  const failing = run.data?.failing ?? 0;
  return (
    <section className="mt-5 border-t border-line pt-3" aria-label="Cases">
      <h2 className="mb-1">
        Cases{" "}
        <span>
          · messages with what must come out of them
          {rows.length > 0 && (failing ? `; ${failing} of ${rows.length} fail` : `; all ${rows.length} pass`)}
        </span>
      </h2>
      {engineer && decoded && sample.hex !== null && (
        <form
          className="flex flex-wrap items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) keep.mutate();
          }}
        >
          <input
            className="input !w-64"
            aria-label="Name of the case"
            placeholder="name the message above"
            maxLength={120}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <button className="button" disabled={!name.trim() || keep.isPending || !settled}>
            Keep it as a case
          </button>
          <span className="text-[12.5px] text-second">
            {decoded.error
              ? `expects to be refused as ${decoded.error.code}`
              : `expects its ${decoded.values.length} readings`}
          </span>
        </form>
      )}
      <Trouble error={keep.error ?? cases.error ?? remove.error ?? change.error ?? putBack.error} />
      <p
        role="status"
        className={removed ? "mt-2 flex items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1" : ""}
      >
        {removed && (
          <>
            <span>
              The case <b>{removed.name}</b> is removed.
            </span>
            <button type="button" className="link" onClick={() => putBack.mutate(removed)}>
              put it back
            </button>
          </>
        )}
      </p>
      {rows.length > 0 && (
        <ul className="rows mt-2 max-w-4xl" aria-label="Kept cases">
          {rows.map((c) => {
            const r = results.get(c.id);
            return (
              <li key={c.id} className="py-1">
                <div className="flex items-baseline gap-3">
                  <span className="w-12 font-mono text-[12px]">{!r ? "…" : r.passed ? "pass" : <b>fail</b>}</span>
                  <button
                    type="button"
                    className="link"
                    onClick={() => sample.setPasted(c.payload_hex.replace(/../g, "$& ").trim(), c as Kept)}
                  >
                    {c.name}
                  </button>
                  <span className="text-[12.5px] text-second">{c.payload_hex.length / 2} bytes</span>
                  <span className="ml-auto flex gap-4">
                    {engineer && r && !r.passed && (
                      <button
                        type="button"
                        className="link"
                        disabled={change.isPending}
                        onClick={() => change.mutate({ one: c.id, expect: r.gives })}
                      >
                        expect what it gives now
                      </button>
                    )}
                    <button
                      type="button"
                      className="link"
                      aria-expanded={open === c.id}
                      onClick={() => setOpen(open === c.id ? null : c.id)}
                    >
                      what it expects
                    </button>
                    {engineer && (
                      <button type="button" className="link" onClick={() => remove.mutate(c)}>
                        remove
                      </button>
                    )}
                  </span>
                </div>
                {open === c.id && (
                  <Expected
                    expect={c.expect as Expectation}
                    change={engineer ? (expect) => change.mutate({ one: c.id, expect }) : undefined}
                  />
                )}
                {r && !r.passed && (
                  <ul className="ml-15 text-[12.5px]">
                    {r.differences.slice(0, 5).map((d) => (
                      <li key={d}>{d}</li>
                    ))}
                  </ul>
                )}
              </li>
            );
          })}
        </ul>
      )}
    </section>
  );
}

/** What a person wrote, as a value: a number, yes or no, else a text; nothing is a missing value. */
function valueOf(text: string, old: unknown): unknown {
  const trimmed = text.trim();
  if (trimmed === "") return null;
  if (typeof old === "boolean") return /^(true|yes|1)$/i.test(trimmed);
  if (typeof old === "string" && !/^\d{16,}$/.test(old)) return text;
  try {
    return JSON.parse(trimmed) as unknown;
  } catch {
    return text;
  }
}

/** The expected readings of a case, each with its value to change. */
function Expected({ expect, change }: { expect: Expectation; change: ((next: Expectation) => void) | undefined }) {
  if (expect.error) return <p className="ml-15 text-[12.5px]">It expects to be refused as {expect.error}.</p>;
  const readings = expect.readings ?? [];
  return (
    <ul className="my-1 ml-15 grid gap-1 text-[12.5px]" aria-label="Expected readings">
      {readings.map((r, i) => (
        <li key={i} className="flex items-center gap-2">
          <span className="w-44 truncate">{r.field}</span>
          <input
            className="input !h-7 !min-h-7 !w-40 font-mono text-[12.5px]"
            aria-label={`${r.field} expected`}
            defaultValue={
              r.value === null ? "" : typeof r.value === "object" ? JSON.stringify(r.value) : String(r.value)
            }
            readOnly={!change}
            onBlur={(e) => {
              const value = valueOf(e.target.value, r.value);
              if (change && JSON.stringify(value) !== JSON.stringify(r.value))
                change({ readings: readings.map((other, k) => (k === i ? { ...other, value } : other)) });
            }}
            onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          />
          <span className="unit">{r.unit && r.unit !== "1" ? r.unit : ""}</span>
          {r.missing && <span className="text-second">missing: {r.missing}</span>}
          <span className="text-second">{r.at}</span>
        </li>
      ))}
    </ul>
  );
}
