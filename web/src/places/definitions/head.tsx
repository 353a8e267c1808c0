import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, got } from "../../api/client";
import { At, Heading, TextField, Trouble } from "../../parts/basics";
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
  if (!d) return null;
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
      <Versions id={d.id} live={d.live?.number ?? null} use={(text) => draft.setText(text)} />
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
                  draft.publish.mutate(why, {
                    onSuccess: () => {
                      setOpen(false);
                      setWhy("");
                    },
                  });
                }}
              >
                <p>
                  From the next arrival on, this text counts. A version never changes; you can go back to an earlier
                  one.
                </p>
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
                    {draft.publish.isPending ? "Publishing …" : "Publish"}
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

function Versions({ id, live, use }: { id: number; live: number | null; use: (text: string) => void }) {
  const [open, setOpen] = useState(false);
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
            {versions.data?.results.map((v) => (
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
                <pre tabIndex={0} className="mt-1 max-h-48 overflow-auto bg-raised p-2 font-mono text-[12px]">
                  {v.text}
                </pre>
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
