import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, got } from "../../api/client";
import { Field, TextField, Trouble } from "../../parts/basics";
import { useSettled } from "../definitions/draft";

const WORDS = "{what} {text} {priority} {condition} {place} {site} {value} {limit} {at} {link} {step}";

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
  const settled = useSettled(`${subject}\u0000${text}`, 400);
  const preview = useQuery({
    queryKey: ["preview", settled],
    enabled: Boolean(subject || text),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => {
      const [own = "", body = ""] = settled.split("\u0000");
      return got(api.POST("/api/v1/outlets/preview", { signal, body: { subject: own, text: body } }));
    },
  });
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
      <Trouble error={preview.error} />
      {preview.data && (subject || text) && (
        <div aria-label="As it would read" className="border border-line bg-raised p-2 text-[12.5px]">
          <p className="font-semibold">{preview.data.subject}</p>
          <pre className="font-mono whitespace-pre-wrap">{preview.data.text}</pre>
        </div>
      )}
    </fieldset>
  );
}
