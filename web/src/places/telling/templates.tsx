import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Field, TextField, Trouble } from "../../parts/basics";
import { useSettled } from "../definitions/draft";
import { ofPreview } from "./queries";

const WORDS = "{what} {text} {priority} {condition} {place} {site} {value} {limit} {at} {link} {step}";
const BODY_WORDS = `${WORDS} {number} {alarm} {delivery}`;

type Own = { subject: string; text: string; body: string };

/** What templates would read with the newest alarm; nothing is asked while they are empty. */
function usePreview(own: Own) {
  const settled = useSettled(JSON.stringify(own), 400);
  const some = Boolean(own.subject || own.text || own.body);
  const preview = useQuery({ ...ofPreview(settled), enabled: some, retry: false, placeholderData: keepPreviousData });
  return { error: preview.error, shown: some ? preview.data : undefined };
}

/** Subject and text of an outlet's own, shown as they would read with the newest alarm. */
export function Templates({
  subject,
  text,
  put,
}: {
  subject: string;
  text: string;
  put: (key: "subject" | "text", value: string) => void;
}) {
  const { error, shown } = usePreview({ subject, text, body: "" });
  return (
    <fieldset className="grid gap-2">
      <legend className="text-[12.5px] text-second">Words of its own · empty: as Oculum writes it</legend>
      <TextField
        label="Subject"
        placeholder="{what}, {priority}: {text}"
        maxLength={200}
        value={subject}
        onChange={(e) => put("subject", e.target.value)}
      />
      <Field label="Text of each alarm" note={`there are ${WORDS}`}>
        {(id) => (
          <textarea
            id={id}
            className="input min-h-20"
            maxLength={4000}
            value={text}
            onChange={(e) => put("text", e.target.value)}
          />
        )}
      </Field>
      <Trouble error={error} />
      {shown && (
        <div aria-label="As it would read" className="border border-line bg-raised p-2 text-[12.5px]">
          <p className="font-semibold">{shown.subject}</p>
          <pre className="font-mono whitespace-pre-wrap">{shown.text}</pre>
        </div>
      )}
    </fieldset>
  );
}

const written = (headers: Record<string, string>) =>
  Object.entries(headers)
    .map(([name, value]) => `${name}: ${value}`)
    .join("\n");

/** Headers, a line each; what stands before the first colon is the name. */
export function headersOf(text: string): Record<string, string> {
  const lines = text.split("\n").filter((line) => line.trim());
  return Object.fromEntries(
    lines.map((line) => {
      const at = line.includes(":") ? line.indexOf(":") : line.length;
      return [line.slice(0, at).trim(), line.slice(at + 1).trim()];
    }),
  );
}

/** Headers of a webhook's own, and the JSON that it takes for an alarm. */
export function RequestOfItsOwn({
  headers,
  body,
  put,
}: {
  headers: Record<string, string>;
  body: string;
  put: (changed: { headers: Record<string, string> } | { body: string }) => void;
}) {
  const [lines, setLines] = useState(() => written(headers));
  const { error, shown } = usePreview({ subject: "", text: "", body });
  return (
    <fieldset className="grid gap-2">
      <legend className="text-[12.5px] text-second">A request of its own · empty: as Oculum writes it</legend>
      <Field label="Headers" note="a line each, such as `Channel: quay`">
        {(id) => (
          <textarea
            id={id}
            className="input min-h-12 font-mono"
            value={lines}
            onChange={(e) => {
              setLines(e.target.value);
              put({ headers: headersOf(e.target.value) });
            }}
          />
        )}
      </Field>
      <Field
        label="Body for each alarm, JSON"
        note={`instead of a batch of CloudEvents, a request for each alarm; there are ${BODY_WORDS}`}
      >
        {(id) => (
          <textarea
            id={id}
            className="input min-h-20 font-mono"
            placeholder='{"title": "{what}: {text}", "value": {number}}'
            maxLength={8000}
            value={body}
            onChange={(e) => put({ body: e.target.value })}
          />
        )}
      </Field>
      <Trouble error={error} />
      {shown?.body && (
        <pre
          aria-label="As it would read"
          className="border border-line bg-raised p-2 font-mono text-[12.5px] whitespace-pre-wrap"
        >
          {shown.body}
        </pre>
      )}
    </fieldset>
  );
}
