import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";

type Row = Schemas["FenceRow"];
const MOST_BYTES = 2_000_000;

/** Fences out as GeoJSON, and in: what would become of each feature is shown before any is taken. */
export function FileBox({ close }: { close: () => void }) {
  const client = useQueryClient();
  const [features, setFeatures] = useState<unknown[]>([]);
  const [wrong, setWrong] = useState<Error | null>(null);
  const bring = useMutation({
    mutationFn: ({ these, dry_run }: { these: unknown[]; dry_run: boolean }) =>
      got(api.POST("/api/v1/fences/file", { body: { features: these, dry_run } })),
  });
  const kept = bring.isSuccess && !bring.variables.dry_run;
  const rows: Row[] = bring.data ?? [];
  const good = rows.filter((r) => ["added", "changed"].includes(r.becomes)).length;
  const read = async (file: File | undefined) => {
    setWrong(null);
    bring.reset();
    if (!file) return;
    try {
      const these = featuresOf(file.size > MOST_BYTES ? null : await file.text(), file.name);
      setFeatures(these);
      bring.mutate({ these, dry_run: true });
    } catch (error) {
      setFeatures([]);
      setWrong(error as Error);
    }
  };
  return (
    <section className="mb-3 border-l-3 border-ink pl-4" aria-label="GeoJSON in or out">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <a className="button" href="/api/v1/fences/file" download>
          All fences as a file
        </a>
        <label className="flex items-center gap-2">
          <span className="text-second">bring in</span>
          <input
            type="file"
            accept=".json,.geojson,application/geo+json,application/json"
            onChange={(e) => void read(e.target.files?.[0])}
          />
        </label>
        {rows.length > 0 && !kept && (
          <button
            type="button"
            className="button strong"
            disabled={good === 0 || bring.isPending}
            onClick={() =>
              bring.mutate(
                { these: features, dry_run: false },
                { onSuccess: () => client.invalidateQueries({ queryKey: ["fences"] }) },
              )
            }
          >
            Take {good} of {rows.length}
          </button>
        )}
        {kept && (
          <b role="status">
            {good} taken{rows.length > good && `, ${rows.length - good} not`}.
          </b>
        )}
        <button type="button" className="link ml-auto" onClick={close}>
          close
        </button>
      </div>
      <Trouble error={wrong ?? bring.error} />
      {rows.length > 0 && (
        <ul className="rows mt-2 max-h-44 max-w-3xl overflow-y-auto" aria-label="Features of the file">
          {rows.map((r) => (
            <li key={r.number} className="row-line flex items-center gap-3 px-1">
              <span className="w-8 text-right text-second">{r.number}</span>
              <b>{r.name ?? "without a name"}</b>
              <span>{kept || r.becomes === "refused" ? r.becomes : `would be ${r.becomes}`}</span>
              {r.why && <span className="truncate text-second">{r.why}</span>}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

/** The features of a file. Throws, saying what was found instead. */
function featuresOf(text: string | null, name: string): unknown[] {
  if (text === null) throw new Error(`${name} is larger than 2 MB.`);
  let found: { type?: string; features?: unknown[] };
  try {
    found = JSON.parse(text) as typeof found;
  } catch {
    throw new Error(`${name} is no JSON: a GeoJSON FeatureCollection is expected.`);
  }
  if (found?.type === "Feature") return [found];
  if (found?.type !== "FeatureCollection" || !Array.isArray(found.features))
    throw new Error(
      `${name} holds ${found?.type ? `a ${found.type}` : "no GeoJSON"}; a FeatureCollection is expected.`,
    );
  return found.features;
}
