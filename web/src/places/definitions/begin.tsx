import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import { ofTypes } from "../../api/queries";
import { Choose, TextField, Trouble } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { conditionDraft, decoderDraft, looksLike, PAYLOADS } from "./beginning";

/** A form that begins a definition. `type`, `message`: what it is begun for, where somebody came with that. */
export function Begin({
  kind,
  taken,
  type: given = "",
  message,
}: {
  kind: "decoder" | "condition";
  taken: string[];
  type?: string;
  message?: string | null;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const kept = useKept();
  const types = useQuery(ofTypes());
  const arrival = useQuery({
    queryKey: ["arrival", message],
    enabled: Boolean(message),
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/arrivals/{ident}", { signal, params: { path: { ident: Number(message) } } })),
  });
  const free = (types.data?.results ?? []).filter((t) => kind === "condition" || !taken.includes(t.key));
  const [type, setType] = useState(given);
  const [name, setName] = useState("");
  const [chosen, setSource] = useState<string | null>(null);
  const source = chosen ?? (arrival.data ? looksLike(arrival.data.hex, arrival.data.text) : "bytes, big endian");
  const key = type || free[0]?.key || "";
  const about = types.data?.results.find((t) => t.key === key);
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions", {
          body: {
            kind,
            name: kind === "decoder" ? key : name.trim(),
            type: key,
            draft: kind === "decoder" ? decoderDraft(key, source) : conditionDraft(name.trim(), about!),
          },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["definitions"] }),
  });
  return (
    <form
      className="mb-4 flex flex-wrap items-end gap-3 border-l-3 border-ink pl-4"
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate(undefined, {
          onSuccess: (made) => navigate(kept(`/${kind}s/${made.id}`, message ? { message } : {})),
        });
      }}
    >
      {given && (
        <p className="w-full">
          <b>{about?.title ?? given} has no decoder yet.</b> Begin one{message ? " with the message you came from" : ""}
          : what is its payload?
        </p>
      )}
      {kind === "condition" && (
        <TextField
          label="name"
          required
          autoFocus
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
        <Choose label="payload" value={source} onChange={(e) => setSource(e.target.value)} options={PAYLOADS} />
      )}
      <button className="button strong" disabled={begin.isPending || !about || (kind === "condition" && !name.trim())}>
        Begin it
      </button>
      {types.data && free.length === 0 && (
        <span className="text-second">Every device type has its decoder; add a type first.</span>
      )}
      <Trouble error={begin.error} />
    </form>
  );
}
