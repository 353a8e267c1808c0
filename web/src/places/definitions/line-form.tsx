import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { type Schemas } from "../../api/client";
import type { Words } from "../../parts/editor";
import { UnitField } from "../../parts/unit-field";
import { changed, moved } from "./line-change";
import { ofForm } from "./queries";

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
  // The form that belongs to the text as the form itself has changed it; the server's follows.
  const [own, setOwn] = useState<{ text: string; form: Form } | null>(null);
  const mine = own?.text === text && own.form.line === line ? own.form : null;
  const found = useQuery({
    ...ofForm(text, line ?? 1),
    enabled: line !== null && mine === null,
    placeholderData: (old) => old,
  });
  const form = mine ?? found.data?.form;
  const fresh = mine !== null || (!found.isPlaceholderData && form?.line === line);
  return (
    <section
      aria-label="Line as a form"
      className="desk-form mt-2 min-h-[76px] border border-line bg-raised px-3 py-1.5"
    >
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
                write={(value) => {
                  const next = changed(text, form.line, slot, value);
                  setOwn({ text: next, form: moved(form, index, value) });
                  setText(next);
                }}
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
  disabled,
  write,
}: {
  slot: Slot;
  words: Words;
  disabled: boolean;
  write: (value: string) => void;
}) {
  const id = useId();
  if (slot.kind === "word")
    return (
      <label className="flex min-h-8 items-center gap-1.5 self-end text-[12.5px]">
        <input
          type="checkbox"
          checked={slot.text !== ""}
          disabled={disabled}
          onChange={(e) => write(e.target.checked ? (slot.options[0] ?? "") : "")}
        />
        {slot.label}
      </label>
    );
  const proposals = slot.what === "field" ? words.fields : slot.what === "type" ? words.types : slot.options;
  return (
    <div className={slot.text ? "" : "opacity-80"}>
      <label htmlFor={id} className="block text-[11.5px] text-second">
        {slot.label}
      </label>
      {slot.kind === "choice" ? (
        <select
          id={id}
          className="input !h-7 !min-h-7 !w-auto py-0 font-mono text-[12.5px]"
          value={slot.text}
          disabled={disabled}
          onChange={(e) => write(e.target.value)}
        >
          {slot.optional && <option value="">not said</option>}
          {slot.options.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      ) : slot.what === "unit" ? (
        <UnitField
          label={slot.label}
          look="!h-7 !min-h-7 !w-32 font-mono text-[12.5px]"
          placeholder={slot.optional ? "–" : ""}
          disabled={disabled}
          value={slot.text}
          onChange={write}
        />
      ) : (
        <>
          <input
            id={id}
            className="input !h-7 !min-h-7 font-mono text-[12.5px]"
            style={{
              width: `${Math.min(Math.max((slot.text || slot.label).length + (proposals.length ? 6 : 3), 8), 46)}ch`,
            }}
            autoComplete="off"
            spellCheck={false}
            list={proposals.length ? `${id}-list` : undefined}
            placeholder={slot.optional ? "–" : ""}
            disabled={disabled}
            value={slot.text}
            onChange={(e) => write(e.target.value)}
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
