import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { Empty, Heading, Trouble } from "../parts/basics";
import { useKept } from "../parts/lookback-state";
import { useMay } from "../parts/me";
import { counted } from "../parts/words";

type Change = Schemas["ArchiveChange"];
const MOST_BYTES = 1_800_000;
const ENDS = /\.(ocu|json|jsonl|csv|geojson|md)$/;
const WORDS: Record<Change["becomes"], string> = {
  created: "new",
  changed: "changed",
  unchanged: "unchanged",
  removed: "removed",
  left: "not in the folder, stays",
  refused: "refused",
};

/** The text files of a chosen folder, by their paths in it. Throws, saying what was found instead. */
export async function filesOf(list: FileList): Promise<Record<string, string>> {
  const chosen = [...list].filter((file) => ENDS.test(file.name) && !/(^|\/)\./.test(file.webkitRelativePath));
  if (chosen.length === 0) throw new Error("There is nothing of an archive in this folder.");
  if (chosen.reduce((n, file) => n + file.size, 0) > MOST_BYTES)
    throw new Error("The folder holds more than 1.8 MB of text; apply it by ./oculum apply.");
  const found: Record<string, string> = {};
  for (const file of chosen) found[file.webkitRelativePath.replace(/^[^/]+\//, "") || file.name] = await file.text();
  return found;
}

/** All that people have written as text: out as a file, and in with what would become of each thing shown first. */
export default function Archive() {
  const kept = useKept();
  const admin = useMay("admin");
  const client = useQueryClient();
  const [files, setFiles] = useState<Record<string, string> | null>(null);
  const [remove, setRemove] = useState(false);
  const [wrong, setWrong] = useState<Error | null>(null);
  const apply = useMutation({
    mutationFn: (body: { files: Record<string, string>; dry_run: boolean; remove: boolean }) =>
      got(api.POST("/api/v1/archive", { body })),
    onSuccess: (found) => (found.applied ? client.invalidateQueries() : undefined),
  });
  const choose = async (list: FileList | null) => {
    setWrong(null);
    apply.reset();
    if (!list?.length) return;
    try {
      const found = await filesOf(list);
      setFiles(found);
      apply.mutate({ files: found, dry_run: true, remove });
    } catch (error) {
      setFiles(null);
      setWrong(error as Error);
    }
  };
  const changes = (apply.data?.changes ?? []).filter((c) => c.becomes !== "unchanged");
  const same = (apply.data?.changes.length ?? 0) - changes.length;
  const refused = changes.filter((c) => c.becomes === "refused").length;
  const acts = changes.filter((c) => ["created", "changed", "removed"].includes(c.becomes)).length;
  return (
    <>
      <Heading title="Definitions as text" about="Types, decoders, routes, conditions, tables, places, ways of telling">
        <Link className="button inline-flex items-center" to={kept("/settings")}>
          Settings
        </Link>
        <a className="button inline-flex items-center" href="/api/v1/archive/file" download>
          All of it as a file
        </a>
      </Heading>
      {admin ? (
        <section className="mb-3 flex flex-wrap items-center gap-x-6 gap-y-2" aria-label="Bring in">
          <label className="flex items-center gap-2">
            <span className="text-second">a folder, as the file holds it unpacked</span>
            <input type="file" multiple {...{ webkitdirectory: "" }} onChange={(e) => void choose(e.target.files)} />
          </label>
          <label className="flex min-h-8 items-center gap-2">
            <input
              type="checkbox"
              checked={remove}
              onChange={(e) => {
                setRemove(e.target.checked);
                if (files) apply.mutate({ files, dry_run: true, remove: e.target.checked });
              }}
            />
            remove what is not in it
          </label>
          {files && apply.data && !apply.data.applied && (
            <button
              type="button"
              className="button strong"
              disabled={acts === 0 || refused > 0 || apply.isPending}
              onClick={() => apply.mutate({ files, dry_run: false, remove })}
            >
              {refused ? `${refused} refused: nothing can be applied` : acts ? `Apply ${acts}` : "Nothing would change"}
            </button>
          )}
          {apply.isPending && <span className="text-second">Looking at all of it …</span>}
          {apply.data?.applied && <b role="status">Applied.</b>}
        </section>
      ) : (
        <p className="text-second">An administrator can bring a folder in.</p>
      )}
      <Trouble error={wrong ?? apply.error} />
      {!files && (
        <Empty title="All that people have written, as files.">
          <span className="grid max-w-3xl gap-2">
            <span>
              One file a definition: types, decoders with their cases, routes in their order, conditions, reference
              tables, fences, sites, setpoints, outlets without secrets, contacts and ways of telling. Keep them where
              you keep text, compare them, take them to another Oculum.
            </span>
            <span>
              Take <i>all of it as a file</i>, unpack it, change what you want, and choose the folder above. What would
              be created, changed and removed is shown first, with the differences; nothing is applied before you say
              so, and all of it or nothing is.
            </span>
            <span>
              The same as commands: <code>./oculum export</code>, <code>check</code>, <code>apply</code>.
            </span>
          </span>
        </Empty>
      )}
      {apply.data && (
        <>
          <p role="status" className="mb-2">
            <b>{counted(changes.length, "thing")}</b> differ{changes.length === 1 ? "s" : ""}, {same} unchanged
            {apply.data.applied ? "" : "; nothing is applied yet"}.
          </p>
          <ul className="rows max-w-4xl" aria-label="What becomes of it">
            {changes.map((c) => (
              <li key={`${c.kind} ${c.name}`} className="px-1 py-1.5">
                <div className="flex flex-wrap items-baseline gap-3">
                  <span className={`w-44 ${c.becomes === "refused" ? "font-bold" : ""}`}>{WORDS[c.becomes]}</span>
                  <span className="w-24 text-second">{c.kind}</span>
                  <b>{c.name}</b>
                  <span className="font-mono text-[12px] text-second">{c.path}</span>
                </div>
                {c.why && <p className="border-l-3 border-ink pl-3">{c.why}</p>}
                {c.difference && (
                  <details>
                    <summary className="link w-fit text-[12.5px]">the difference</summary>
                    <pre tabIndex={0} className="overflow-x-auto bg-raised p-2 font-mono text-[12px]">
                      {c.difference}
                    </pre>
                  </details>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
