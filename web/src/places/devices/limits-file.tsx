import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../../api/client";
import { Trouble } from "../../parts/basics";

const MOST_BYTES = 1_000_000;

/** Values out as CSV, and in: what each line would change is shown before any is taken. */
export function LimitsFile({ type, operator, close }: { type: string; operator: boolean; close: () => void }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<Error | null>(null);
  const bring = useMutation({
    mutationFn: (body: { text: string; dry_run: boolean }) =>
      got(api.POST("/api/v1/types/{key}/setpoints-file", { params: { path: { key: type } }, body })),
  });
  const rows = (bring.data ?? []).filter((r) => r.becomes !== "unchanged");
  const good = rows.filter((r) => r.becomes === "changed").length;
  const kept = bring.isSuccess && !bring.variables.dry_run;
  const read = async (file: File | undefined) => {
    setWrong(null);
    bring.reset();
    if (!file) return;
    if (file.size > MOST_BYTES) return setWrong(new Error(`${file.name} is larger than 1 MB.`));
    const found = await file.text();
    setText(found);
    bring.mutate({ text: found, dry_run: true });
  };
  return (
    <section className="mb-3 border-l-3 border-ink pl-4" aria-label="CSV in or out">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <a className="button" href={`/api/v1/types/${type}/setpoints-file`} download>
          All values as a file
        </a>
        {operator && (
          <label className="flex items-center gap-2">
            <span className="text-second">bring in</span>
            <input type="file" accept=".csv,text/csv" onChange={(e) => void read(e.target.files?.[0])} />
          </label>
        )}
        {bring.isSuccess && !kept && (
          <button
            type="button"
            className="button strong"
            disabled={good === 0 || bring.isPending}
            onClick={() =>
              bring.mutate(
                { text, dry_run: false },
                {
                  onSuccess: () =>
                    client.invalidateQueries({
                      predicate: (q) => /^(limits|types|device)/.test(String(q.queryKey[0])),
                    }),
                },
              )
            }
          >
            {good ? `Take ${good} of ${rows.length} lines` : "Nothing would change"}
          </button>
        )}
        {kept && (
          <b role="status">
            {good} taken{rows.length > good && `, ${rows.length - good} refused`}.
          </b>
        )}
        <button type="button" className="link ml-auto" onClick={close}>
          close
        </button>
      </div>
      <Trouble error={wrong ?? bring.error} />
      {rows.length > 0 && (
        <ul className="rows mt-2 max-h-44 max-w-3xl overflow-y-auto" aria-label="Lines of the file">
          {rows.slice(0, 200).map((r) => (
            <li key={r.line} className="row-line flex items-center gap-3 px-1">
              <span className="w-12 text-right text-second">line {r.line}</span>
              <b>{r.name}</b>
              <span>{r.becomes === "refused" ? "refused" : kept ? "changed" : "would be changed"}</span>
              <span className="truncate text-second">{r.says}</span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
