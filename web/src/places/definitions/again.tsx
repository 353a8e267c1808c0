import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { Differences } from "./differences";
import { useProgress, type DecoderTrial } from "./progress";
import { ofAgain, ofUndecoded } from "./queries";

/** Stored messages run once more through the version in force: the refused ones, or all of a span. */
export function Again({ type, live }: { type: string; live: boolean }) {
  const client = useQueryClient();
  const engineer = useMay("engineer");
  const [days, setDays] = useState(0);
  const again = useQuery({
    ...ofAgain(type),
    enabled: Boolean(type),
    refetchInterval: (q) => (["waiting", "running"].includes(q.state.data?.state ?? "") ? 500 : false),
  });
  const refused = useQuery({ ...ofUndecoded(type), enabled: Boolean(type) });
  const changed = { onSuccess: () => client.invalidateQueries({ queryKey: ["again"] }) };
  const path = { path: { key: type } };
  const span = () => {
    const end = new Date();
    return days ? { start: new Date(end.getTime() - days * 86_400_000).toISOString(), end: end.toISOString() } : {};
  };
  const start = useMutation({
    mutationFn: () => {
      const body = span();
      return got(api.POST("/api/v1/types/{key}/decode-again", { params: path, body }));
    },
    ...changed,
  });
  const pause = useMutation({
    mutationFn: (state: "paused" | "waiting") =>
      got(api.PATCH("/api/v1/types/{key}/decode-again", { params: path, body: { state } })),
    ...changed,
  });
  const cancel = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/types/{key}/decode-again", { params: path })),
    ...changed,
  });
  const preview = useProgress<DecoderTrial>(`/api/v1/types/${type}/decode-again/preview`);
  const job = again.data;
  const busy = ["waiting", "running", "paused"].includes(job?.state ?? "");
  if (!live && !(job && job.id > 0)) return null;
  return (
    <section className="mt-4" aria-label="Decode again">
      <h2 className="mb-1">
        Decode again <span>· stored messages through the version in force</span>
      </h2>
      {job && busy ? (
        <p className="flex items-center gap-2">
          <progress max={job.total || 1} value={job.done} aria-label="decoded again" />{" "}
          {(job.done ?? 0).toLocaleString("en")} of {(job.total ?? 0).toLocaleString("en")}
          <button
            type="button"
            className="link"
            onClick={() => pause.mutate(job.state === "paused" ? "waiting" : "paused")}
          >
            {job.state === "paused" ? "go on" : "pause"}
          </button>
          <button type="button" className="link" onClick={() => cancel.mutate()}>
            cancel
          </button>
          {job.behind > 0 && <span className="text-second">{counted(job.behind, "more job")} behind it</span>}
        </p>
      ) : (
        <div className="flex flex-wrap items-center gap-2">
          {engineer && live && (
            <>
              <Pick
                label="Which messages to decode again"
                value={days}
                options={[
                  [0, "the refused ones"],
                  [1, "all of the last day"],
                  [7, "all of 7 days"],
                  [30, "all of 30 days"],
                ]}
                onChange={(text) => {
                  setDays(Number(text));
                  preview.run.reset();
                }}
              />
              <button
                type="button"
                className="button"
                disabled={preview.run.isPending || (days === 0 && !refused.data)}
                onClick={() => preview.run.mutate(span())}
              >
                {preview.run.isPending ? "Looking …" : "See what changes"}
              </button>
              {preview.at && (
                <>
                  <progress max={preview.at.total || 1} value={preview.at.done} aria-label="messages looked at" />
                  <button type="button" className="link" onClick={preview.stop}>
                    stop
                  </button>
                </>
              )}
              <button
                type="button"
                className="button"
                disabled={start.isPending || (days === 0 && !refused.data)}
                onClick={() => start.mutate()}
              >
                {days === 0 ? (refused.data ? "Decode them again" : "None is refused") : "Decode them again"}
              </button>
            </>
          )}
          {job && job.id > 0 && (
            <span role="status">
              {(job.decoded ?? 0).toLocaleString("en")} of {(job.done ?? 0).toLocaleString("en")} decoded{" "}
              {job.state === "cancelled" ? "before it was cancelled" : ""}
              {job.state === "failed" ? `before it failed: ${job.reason ?? ""}` : ""}
            </span>
          )}
        </div>
      )}
      <Trouble error={start.error} />
      {!(preview.run.error instanceof DOMException) && <Trouble error={preview.run.error} />}
      {preview.run.data && !busy && <Foreseen found={preview.run.data} />}
    </section>
  );
}

/** What decoding again would change, held against what is stored. */
function Foreseen({ found }: { found: Schemas["DecoderTrialOut"] }) {
  const changed = found.fields.filter((f) => f.differ || f.state !== "same");
  const before = found.decoded_before ?? 0;
  const values = changed.reduce((sum, f) => sum + (f.differ ?? 0), 0);
  return (
    <div className="mt-2 border-l-3 border-line pl-3" role="status" aria-label="What decoding again would change">
      <p>
        Of <b>{found.messages.toLocaleString("en")}</b> messages <b>{found.decoded.toLocaleString("en")}</b> would be
        decoded, {before.toLocaleString("en")} are now;{" "}
        {found.failed ? `${found.failed.toLocaleString("en")} fail` : "none fails"}.{" "}
        {values ? `${values.toLocaleString("en")} stored values become others.` : "No stored value becomes another."}
      </p>
      {found.reasons.slice(0, 3).map((r) => (
        <p key={`${r.code} ${r.message}`} className="text-[12.5px] text-second">
          {r.count.toLocaleString("en")} × {r.code}: {r.message}
        </p>
      ))}
      {changed.length > 0 && <Differences fields={changed} />}
    </div>
  );
}
