import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { type Schemas } from "../../api/client";
import { ofDevices, ofArrival } from "../../api/queries";
import { named, useAddress, word } from "../../parts/address";
import { At, Trouble } from "../../parts/basics";
import { Toggles } from "../../parts/filters";
import { useKeys } from "../../parts/keys";
import { look } from "../../parts/look";
import { Key } from "../../parts/marks";
import { useSettled } from "./draft";
import { ofSamples } from "./queries";

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

const ADDRESS = { outcome: word, device: word, message: named };

/** The message that the draft is tried on: one of the last arrivals, or a pasted one. */
export function useSample(type: string) {
  const [{ outcome, device, message: wanted }, put] = useAddress(ADDRESS, { ends: "message" });
  const [pasted, setPasted] = useState<string | null>(null);
  const [kept, setKept] = useState<Kept | null>(null);
  const list = useQuery({ ...ofSamples(type, outcome, device), enabled: Boolean(type) });
  const rows = list.data ?? [];
  const listed = rows.findIndex((r) => r.id === wanted);
  const chosen = wanted ?? rows[0]?.id ?? null;
  const one = useQuery({
    ...ofArrival(chosen),
    enabled: Boolean(chosen) && pasted === null,
    placeholderData: keepPreviousData,
  });
  const pick = (id: string | undefined) => {
    if (!id) return;
    setPasted(null);
    put({ message: id });
  };
  const filter = (name: "outcome" | "device", value: string) => {
    setPasted(null);
    put({ [name]: value });
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

const OUTCOMES: [string, string][] = [
  ["", "failing first"],
  ["refused", "refused"],
  ["decoded", "decoded"],
  ["no decoder", "waiting"],
];
const MOST = 40;

/** Which message is on show, in one line: "3 of 47 refused, Buoy 43"; pressed, it lets another be chosen. */
export function Sample({ sample, type }: { sample: SampleState; type: string }) {
  useKeys({ "Alt+ArrowUp": () => sample.step(-1), "Alt+ArrowDown": () => sample.step(1) });
  const [open, setOpen] = useState(false);
  const m = sample.arrival;
  const count = `${sample.rows.length}${sample.outcome && sample.rows.length >= MOST ? "+" : ""}`;
  const word = sample.outcome
    ? OUTCOMES.find(([key]) => key === sample.outcome)?.[1]
    : sample.rows.length === 1
      ? "message"
      : "messages";
  return (
    <div className="mb-1.5">
      <div className="flex items-center gap-x-2">
        <h2 className="shrink-0 whitespace-nowrap">What arrived</h2>
        {sample.pasted === null && (
          <span className="min-w-0 truncate text-[12.5px] text-second">
            {sample.rows.length
              ? `${sample.position + 1} of ${count} ${word}${m ? `, ${m.device_title}` : ""}`
              : `no message of ${type}`}
          </span>
        )}
        {sample.pasted === null && (
          <Popover.Root open={open} onOpenChange={setOpen}>
            <Popover.Trigger className="link shrink-0 text-[12.5px]" title="Choose another message">
              others
            </Popover.Trigger>
            <Popover.Portal>
              <Popover.Content
                align="start"
                sideOffset={4}
                className="z-30 grid w-[min(440px,92vw)] gap-2 border border-edge bg-paper p-3"
              >
                <Toggles
                  label="Which messages"
                  value={sample.outcome}
                  options={OUTCOMES}
                  onChange={(value) => sample.filter("outcome", value)}
                />
                <DevicePick type={type} value={sample.device} onPick={(d) => sample.filter("device", d)} />
                <ul className="rows max-h-[44vh] overflow-y-auto" aria-label="Messages">
                  {sample.rows.map((r, i) => (
                    <li key={r.id}>
                      <button
                        type="button"
                        aria-current={i === sample.position}
                        className={look(
                          "row-line grid w-full grid-cols-[112px_minmax(0,1fr)_auto] items-center gap-2 px-2",
                          `text-left text-[13px] ${i === sample.position ? "is-selected" : ""}`,
                        )}
                        onClick={() => {
                          sample.pick(r.id);
                          setOpen(false);
                        }}
                      >
                        <span className="font-mono text-[12px]">
                          <At at={r.received_at} />
                        </span>
                        <span className="truncate">
                          <b>{r.device_title}</b>{" "}
                          <span className="text-second">{r.outcome === "refused" ? r.reason : r.outcome}</span>
                        </span>
                        <span className="text-second">{r.size} bytes</span>
                      </button>
                    </li>
                  ))}
                </ul>
                {sample.rows.length === 0 && <p className="text-second">None is like that.</p>}
              </Popover.Content>
            </Popover.Portal>
          </Popover.Root>
        )}
        <span className="ml-auto flex shrink-0 items-center gap-1 text-[12.5px]">
          {sample.pasted === null ? (
            <>
              <button type="button" className="link mr-1" onClick={() => sample.setPasted("")}>
                paste one
              </button>
              <button
                type="button"
                className="min-h-6"
                aria-label="the message before"
                disabled={sample.position === 0}
                onClick={() => sample.step(-1)}
              >
                <Key>Alt ↑</Key>
              </button>
              <button
                type="button"
                className="min-h-6"
                aria-label="the next message"
                disabled={sample.position >= sample.rows.length - 1}
                onClick={() => sample.step(1)}
              >
                <Key>↓</Key>
              </button>
            </>
          ) : (
            <button type="button" className="link" onClick={() => sample.setPasted(null)}>
              back to what arrived
            </button>
          )}
        </span>
      </div>
      <Trouble error={sample.error} />
      {m && <Beside m={m} />}
      {sample.pasted !== null && (
        <textarea
          className="input mt-1 font-mono text-[12.5px]"
          rows={2}
          aria-label="Pasted payload"
          placeholder="10 04 71 … or a text"
          autoFocus
          value={sample.pasted}
          onChange={(e) => sample.setPasted(e.target.value)}
        />
      )}
    </div>
  );
}

/** What came beside the payload: when, the way in, the topic, the gateway, what the sender told. */
function Beside({ m }: { m: Schemas["WholeArrivalOut"] }) {
  const told = Object.entries(m.headers).filter(([name]) => name !== "topic");
  return (
    <p className="truncate text-[12.5px] text-second">
      <At at={m.received_at} /> ·{" "}
      {m.topic ? <span className="font-mono text-[12px]">{m.topic}</span> : `over ${m.channel}`}
      {m.via && ` · through ${m.via}`}
      {told.map(([name, value]) => ` · ${name} ${value}`).join("")}
    </p>
  );
}

const LISTED = 500;

/** One device of the type, or all of them. */
function DevicePick({ type, value, onPick }: { type: string; value: string; onPick: (device: string) => void }) {
  const devices = useQuery({ ...ofDevices({ type, limit: LISTED, order: "name" }), enabled: Boolean(type) });
  return (
    <select className="input" aria-label="Of which device" value={value} onChange={(e) => onPick(e.target.value)}>
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
