import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { diffLines } from "diff";
import { Dialog } from "radix-ui";
import { useRef, useState } from "react";
import { api, got, Refusal } from "../../api/client";
import { At, Heading, TextField, Trouble } from "../../parts/basics";
import { useKeys } from "../../parts/keys";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import type { useDraft } from "./draft";

type Draft = ReturnType<typeof useDraft>;

/** Name, version, and the one button that puts the draft in force; it says what it waits for. */
export function DefinitionHead({ draft, about }: { draft: Draft; about: React.ReactNode }) {
  const engineer = useMay("engineer");
  const d = draft.definition.data;
  const [why, setWhy] = useState("");
  const [open, setOpen] = useState(false);
  const client = useQueryClient();
  const before = useRef<number | null>(null);
  const effect = useQuery({
    queryKey: ["effect", d?.id],
    enabled: open && Boolean(d),
    queryFn: () => got(api.GET("/api/v1/definitions/{ident}/effect", { params: { path: { ident: d!.id } } })),
  });
  const back = useMutation({
    mutationFn: (number: number) =>
      got(api.POST("/api/v1/definitions/{ident}/in-force", { params: { path: { ident: d!.id } }, body: { number } })),
    onSuccess: () => {
      before.current = null;
      draft.publish.reset();
      return client.invalidateQueries();
    },
  });
  const undo = draft.publish.isSuccess && before.current !== null ? before.current : null;
  useKeys({ "Alt+z": () => undo !== null && engineer && back.mutate(undo) });
  if (!d) return null;
  const casesFail = draft.publish.error instanceof Refusal && draft.publish.error.code === "cases fail";
  const first = draft.errors[0];
  const same = d.live && d.live.text === draft.text;
  const waits = first
    ? `Publish waits for line ${first.line}`
    : !draft.upToDate
      ? "Checking …"
      : same
        ? `Version ${d.live?.number} is in force`
        : null;
  return (
    <Heading
      title={d.name}
      about={
        <>
          {d.live
            ? same
              ? `version ${d.live.number}`
              : `draft on version ${d.live.number}`
            : "draft, not published yet"}{" "}
          · {about}
        </>
      }
    >
      {undo !== null && engineer && (
        <button type="button" className="button" disabled={back.isPending} onClick={() => back.mutate(undo)}>
          Take it back to version {undo} <Key>Alt Z</Key>
        </button>
      )}
      <Versions
        id={d.id}
        live={d.live?.number ?? null}
        use={(text) => draft.setText(text)}
        inForce={(n) => back.mutate(n)}
      />
      <button
        type="button"
        className="button"
        disabled={Boolean(first) || draft.format.isPending}
        onClick={() => draft.format.mutate()}
      >
        Lay out
      </button>
      {engineer && (
        <Dialog.Root open={open} onOpenChange={setOpen}>
          <Dialog.Trigger className="button strong" disabled={waits !== null}>
            {waits ?? `Publish version ${(d.live?.number ?? 0) + 1}`}
          </Dialog.Trigger>
          <Dialog.Portal>
            <Dialog.Overlay className="fixed inset-0 z-40 bg-[#0006]" />
            <Dialog.Content
              aria-describedby={undefined}
              className="fixed top-[18vh] left-1/2 z-50 w-[min(460px,94vw)] -translate-x-1/2 border border-edge bg-paper p-5"
            >
              <Dialog.Title className="mb-3 text-[17px] font-bold">Put {d.name} in force</Dialog.Title>
              <form
                className="grid gap-3"
                onSubmit={(e) => {
                  e.preventDefault();
                  before.current = d.live?.number ?? null;
                  draft.publish.mutate(
                    { why, despite: casesFail },
                    {
                      onSuccess: () => {
                        setOpen(false);
                        setWhy("");
                      },
                    },
                  );
                }}
              >
                <p>
                  From the next arrival on, this text counts. A version never changes; you can go back to an earlier
                  one.
                </p>
                {effect.data && (
                  <p>
                    It touches <b>{counted(effect.data.devices, "device")}</b>,{" "}
                    <b>{counted(effect.data.conditions, "condition")}</b> in force and{" "}
                    <b>{counted(effect.data.open_alarms, "open alarm")}</b>.
                  </p>
                )}
                <TextField
                  label="why (optional, stays with the version)"
                  value={why}
                  maxLength={300}
                  autoFocus
                  onChange={(e) => setWhy(e.target.value)}
                />
                <Trouble error={draft.publish.error} />
                <div className="flex gap-2">
                  <button className="button strong" disabled={draft.publish.isPending}>
                    {draft.publish.isPending ? "Publishing …" : casesFail ? "Publish although they fail" : "Publish"}
                  </button>
                  <Dialog.Close className="button" type="button">
                    Leave it a draft <Key>Esc</Key>
                  </Dialog.Close>
                </div>
              </form>
            </Dialog.Content>
          </Dialog.Portal>
        </Dialog.Root>
      )}
    </Heading>
  );
}

const counted = (n: number, word: string) => `${n.toLocaleString("en")} ${word}${n === 1 ? "" : "s"}`;

/** What one text has otherwise than another, line by line. */
export function Changes({ from, to }: { from: string; to: string }) {
  const parts = diffLines(from, to);
  return (
    <pre
      tabIndex={0}
      aria-label="Differences"
      className="mt-1 max-h-80 overflow-auto bg-raised p-2 font-mono text-[12px]"
    >
      {parts.map((part, i) => {
        const rows = part.value.replace(/\n$/, "").split("\n");
        if (!part.added && !part.removed && rows.length > 4)
          return (
            <span key={i} className="block text-second">
              {`  ${rows[0]}\n  … ${rows.length - 2} lines alike …\n  ${rows[rows.length - 1]}`}
            </span>
          );
        return rows.map((row, k) => (
          <span
            key={`${i} ${k}`}
            className={`block ${part.added ? "bg-selected font-semibold" : part.removed ? "line-through opacity-70" : "text-second"}`}
          >
            {part.added ? "+ " : part.removed ? "- " : "  "}
            {row}
          </span>
        ));
      })}
    </pre>
  );
}

function Versions({
  id,
  live,
  use,
  inForce,
}: {
  id: number;
  live: number | null;
  use: (text: string) => void;
  inForce: (number: number) => void;
}) {
  const [open, setOpen] = useState(false);
  const [whole, setWhole] = useState<number | null>(null);
  const engineer = useMay("engineer");
  const versions = useQuery({
    queryKey: ["versions", id],
    enabled: open,
    queryFn: () => got(api.GET("/api/v1/definitions/{ident}/versions", { params: { path: { ident: id } } })),
  });
  if (live === null) return null;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">Versions</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-[#0003]" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-y-0 right-0 z-40 w-[min(560px,100vw)] overflow-y-auto border-l border-edge bg-paper p-5"
        >
          <Dialog.Title className="mb-3 text-[17px] font-bold">Versions</Dialog.Title>
          <ul className="rows">
            {versions.data?.results.map((v, i, all) => (
              <li key={v.id} className="py-2">
                <div className="flex items-baseline gap-2">
                  <b>Version {v.number}</b>
                  <span className="text-second">
                    {v.who}, <At at={v.at} />
                    {v.why && ` · ${v.why}`}
                  </span>
                  <button
                    type="button"
                    className="link ml-auto"
                    onClick={() => {
                      use(v.text);
                      setOpen(false);
                    }}
                  >
                    take as draft
                  </button>
                </div>
                {whole === v.number || !all[i + 1] ? (
                  <pre tabIndex={0} className="mt-1 max-h-80 overflow-auto bg-raised p-2 font-mono text-[12px]">
                    {v.text}
                  </pre>
                ) : (
                  <Changes from={all[i + 1]?.text ?? ""} to={v.text} />
                )}
                <div className="mt-1 flex gap-4 text-[12.5px]">
                  {all[i + 1] && (
                    <button
                      type="button"
                      className="link"
                      onClick={() => setWhole(whole === v.number ? null : v.number)}
                    >
                      {whole === v.number ? `what changed since version ${all[i + 1]?.number}` : "the whole text"}
                    </button>
                  )}
                  {engineer && v.number !== live && (
                    <button
                      type="button"
                      className="link"
                      onClick={() => {
                        inForce(v.number);
                        setOpen(false);
                      }}
                    >
                      put version {v.number} in force again
                    </button>
                  )}
                </div>
              </li>
            ))}
          </ul>
          <Dialog.Close className="button mt-3">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
