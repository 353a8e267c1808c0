import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import type { Words } from "../../parts/editor";
import { changed } from "./line-change";

type Slot = Schemas["SlotOut"];
type Form = Schemas["LineForm"];

/** The line under the cursor as a form: the same text, part by part. */
export function LineForm({
  text,
  line,
  words,
  setText,
}: {
  text: string;
  line: number | null;
  words: Words;
  setText: (text: string) => void;
}) {
  // While a part is written, all is relative to the text as it was when writing began.
  const [base, setBase] = useState<{ text: string; form: Form; index: number; value: string } | null>(null);
  const found = useQuery({
    queryKey: ["form", text, line],
    enabled: line !== null && base === null,
    queryFn: () => got(api.POST("/api/v1/form", { body: { text, line: line ?? 1 } })),
    staleTime: Infinity,
    placeholderData: (old) => old,
  });
  const form = base?.form ?? found.data?.form;
  const fresh = base !== null || (!found.isPlaceholderData && form?.line === line);
  return (
    <section aria-label="Line as a form" className="mt-2 min-h-[92px] border border-line bg-raised px-3 py-2">
      {form ? (
        <>
          <h2 className="mb-1">
            {form.title} <span>· line {form.line} as a form; both are the same text</span>
          </h2>
          <div className="flex flex-wrap gap-x-3 gap-y-1.5">
            {form.slots.map((slot, index) => (
              <Part
                key={`${form.line} ${slot.label} ${index}`}
                slot={slot}
                words={words}
                disabled={!fresh}
                value={base?.index === index ? base.value : slot.text}
                write={(value, settled) => {
                  const from = base?.index === index ? base : { text, form, index, value: slot.text };
                  setText(changed(from.text, form.line, slot, value));
                  setBase(settled ? null : { ...from, value });
                }}
                leave={() => setBase(null)}
              />
            ))}
          </div>
        </>
      ) : (
        <p className="text-[12.5px] text-second">
          {line === null
            ? "Put the cursor on a line: it opens here as a form."
            : "This line says nothing that has a form yet."}
        </p>
      )}
    </section>
  );
}

function Part({
  slot,
  words,
  value,
  disabled,
  write,
  leave,
}: {
  slot: Slot;
  words: Words;
  value: string;
  disabled: boolean;
  write: (value: string, settled: boolean) => void;
  leave: () => void;
}) {
  const id = useId();
  if (slot.kind === "word")
    return (
      <label className="flex min-h-8 items-center gap-1.5 self-end text-[12.5px]">
        <input
          type="checkbox"
          checked={slot.text !== ""}
          disabled={disabled}
          onChange={(e) => write(e.target.checked ? (slot.options[0] ?? "") : "", true)}
        />
        {slot.label}
      </label>
    );
  const proposals =
    slot.what === "unit"
      ? words.units
      : slot.what === "field"
        ? words.fields
        : slot.what === "type"
          ? words.types
          : slot.options;
  return (
    <div className={slot.text || value ? "" : "opacity-80"}>
      <label htmlFor={id} className="block text-[11.5px] text-second">
        {slot.label}
      </label>
      {slot.kind === "choice" ? (
        <select
          id={id}
          className="input !h-7 !min-h-7 !w-auto py-0 font-mono text-[12.5px]"
          value={slot.text}
          disabled={disabled}
          onChange={(e) => write(e.target.value, true)}
        >
          {slot.optional && <option value="">not said</option>}
          {slot.options.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      ) : (
        <>
          <input
            id={id}
            className="input !h-7 !min-h-7 font-mono text-[12.5px]"
            style={{ width: `${Math.min(Math.max((value || slot.label).length + 3, 8), 44)}ch` }}
            autoComplete="off"
            spellCheck={false}
            list={proposals.length ? `${id}-list` : undefined}
            placeholder={slot.optional ? "–" : ""}
            disabled={disabled}
            value={value}
            onChange={(e) => write(e.target.value, false)}
            onBlur={leave}
            onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          />
          {proposals.length > 0 && (
            <datalist id={`${id}-list`}>
              {proposals.slice(0, 400).map((o) => (
                <option key={o} value={o} />
              ))}
            </datalist>
          )}
        </>
      )}
    </div>
  );
}
