import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../../api/client";
import { ofTypes, ofArrival } from "../../api/queries";
import { Choose, TextField, Trouble } from "../../parts/basics";
import { useGoOn } from "../../parts/go-on";
import { useKept } from "../../parts/lookback-state";
import { titled } from "../../parts/units";
import { ofOutlets } from "../telling/queries";
import {
  conditionDraft,
  decoderDraft,
  looksLike,
  PAYLOADS,
  PURPOSES,
  QUESTIONS,
  renamed,
  routeDraft,
  scoped,
} from "./beginning";
import { ofProposal } from "./queries";

/**
 * A form that begins a definition. `type`, `message`, `scope` (which of the type): what it is begun for, where somebody
 * came with that.
 */
export function Begin({
  kind,
  taken,
  type: given = "",
  message,
  topic = "",
  scope = "",
}: {
  kind: "decoder" | "condition" | "route";
  taken: string[];
  type?: string;
  message?: string | null;
  topic?: string;
  scope?: string;
}) {
  const client = useQueryClient();
  const goOn = useGoOn();
  const kept = useKept();
  const types = useQuery(ofTypes());
  const arrival = useQuery({ ...ofArrival(message), enabled: Boolean(message) });
  const free = (types.data?.results ?? []).filter((t) => kind !== "decoder" || !taken.includes(t.key));
  const [type, setType] = useState(given);
  const [name, setName] = useState("");
  const [chosen, setSource] = useState<string | null>(null);
  const source = chosen ?? (arrival.data ? looksLike(arrival.data.hex, arrival.data.text) : "bytes, big endian");
  const key = type || free[0]?.key || "";
  const about = types.data?.results.find((t) => t.key === key);
  const [question, setQuestion] = useState("");
  const [field, setField] = useState("");
  const [purpose, setPurpose] = useState("nonsense");
  const outlets = useQuery({ ...ofOutlets(), enabled: kind === "route" });
  const outlet = outlets.data?.find((o) => o.kind !== "mail")?.name ?? "";
  const numbers = (about?.fields ?? []).filter((f) => ["number", "integer"].includes(f.kind)).map((f) => f.name);
  const ofNumber = QUESTIONS.find(([q]) => q === question)?.[2] ?? false;
  const own = numbers.includes(field) ? field : (numbers[0] ?? "");
  const proposal = useQuery({
    ...ofProposal(key, question, ofNumber ? own : null),
    enabled: kind === "condition" && question !== "" && key !== "" && (!ofNumber || own !== ""),
    retry: false,
  });
  const proposed = question ? proposal.data : undefined;
  const called = name.trim() || (proposed?.name ?? "");
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions", {
          body: {
            kind,
            name: kind === "decoder" ? key : called,
            type: key,
            draft:
              kind === "decoder"
                ? decoderDraft(key, source)
                : scoped(
                    kind === "route"
                      ? routeDraft(called, about!, purpose, topic, outlet)
                      : proposed
                        ? renamed(proposed.text, called)
                        : conditionDraft(called, about!),
                    key,
                    key === given ? scope : "",
                  ),
          },
        }),
      ),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["definitions"] }),
  });
  return (
    <form
      className="mb-4 flex flex-wrap items-end gap-3 border-l-3 border-ink pl-4"
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate(undefined, {
          onSuccess: goOn((made) => kept(`/${kind}s/${made.id}`, message ? { message } : {})),
        });
      }}
    >
      {given && kind === "decoder" && (
        <p className="w-full">
          <b>{about?.title ?? given} has no decoder yet.</b> Begin one{message ? " with the message you came from" : ""}
          : what is its payload?
        </p>
      )}
      {scope && key === given && (
        <p className="w-full">
          It watches <b className="font-mono">{`${key} ${scope}`}</b>.
        </p>
      )}
      {kind === "condition" && (
        <Choose
          label="what is to be noticed"
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
          options={[["", "I write it myself"], ...QUESTIONS.map(([q, word]): [string, string] => [q, word])]}
        />
      )}
      <Choose
        label="device type"
        value={key}
        onChange={(e) => setType(e.target.value)}
        options={free.map((t) => [t.key, t.title])}
      />
      {kind === "condition" && ofNumber && (
        <Choose
          label="field"
          value={own}
          onChange={(e) => setField(e.target.value)}
          options={numbers.map((f) => [f, titled(f)])}
        />
      )}
      {kind === "route" && (
        <Choose label="what for" value={purpose} onChange={(e) => setPurpose(e.target.value)} options={PURPOSES} />
      )}
      {kind !== "decoder" && (
        <TextField
          label="name"
          required={!proposed}
          maxLength={120}
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder={proposed?.name ?? (kind === "route" ? "no fix is no place" : "oxygen is too low")}
        />
      )}
      {kind === "decoder" && (
        <Choose label="payload" value={source} onChange={(e) => setSource(e.target.value)} options={PAYLOADS} />
      )}
      {proposed && (
        <div className="w-full" aria-label="Proposed">
          <pre tabIndex={0} className="max-w-3xl overflow-x-auto bg-raised p-2 font-mono text-[13px]">
            {proposed.text}
          </pre>
          <p className="text-[12.5px] text-second">{proposed.because}; everything can be changed.</p>
        </div>
      )}
      {proposal.isFetching && <p className="w-full text-second">Looking at the field's past …</p>}
      <button
        className="button strong"
        disabled={begin.isPending || !about || (kind !== "decoder" && (!called || (question !== "" && !proposed)))}
      >
        Begin it
      </button>
      {types.data && free.length === 0 && (
        <span className="text-second">Every device type has its decoder; add a type first.</span>
      )}
      <Trouble error={begin.error ?? (question ? proposal.error : null)} />
    </form>
  );
}
