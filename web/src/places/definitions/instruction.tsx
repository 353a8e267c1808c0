import { useMutation, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { useMay } from "../../parts/me";

const HelpText = lazy(() => import("../../help/text"));

/** What to do about an alarm of this condition, in the engineer's words; whoever takes one reads it. */
export function Instruction({ definition: d }: { definition: Schemas["DefinitionOut"] | undefined }) {
  const engineer = useMay("engineer");
  const client = useQueryClient();
  const [text, setText] = useState<string | null>(null);
  const save = useMutation({
    mutationFn: (instruction: string) =>
      got(
        api.PUT("/api/v1/definitions/{ident}/instruction", {
          params: { path: { ident: d?.id ?? 0 } },
          body: { instruction },
        }),
      ),
    onSuccess: () => {
      setText(null);
      return client.invalidateQueries({ queryKey: ["definition"] });
    },
  });
  if (!d || (!engineer && !d.instruction)) return null;
  return (
    <section className="mt-5 max-w-4xl" aria-label="What to do about it">
      <h2 className="mb-1">
        What to do about an alarm <span>· stands on its sheet</span>
        {engineer && text === null && (
          <button type="button" className="link ml-3" onClick={() => setText(d.instruction)}>
            {d.instruction ? "change" : "write it"}
          </button>
        )}
      </h2>
      {text === null ? (
        d.instruction && (
          <Suspense fallback={null}>
            <HelpText text={d.instruction} />
          </Suspense>
        )
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate(text);
          }}
        >
          <textarea
            autoFocus
            className="input min-h-28 w-full"
            aria-label="Instruction"
            maxLength={5000}
            placeholder="Who goes, what to look at, whom to call. Markdown: *weight*, lists with -"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <div className="mt-2 flex gap-2">
            <button className="button strong" disabled={save.isPending}>
              Keep it
            </button>
            <button type="button" className="button" onClick={() => setText(null)}>
              Cancel
            </button>
          </div>
        </form>
      )}
      <Trouble error={save.error} />
    </section>
  );
}
