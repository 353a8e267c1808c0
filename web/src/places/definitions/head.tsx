import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useRef, useState } from "react";
import { api, got, Refusal } from "../../api/client";
import { Heading, TextField, Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { useKeys } from "../../parts/keys";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import type { useDraft } from "./draft";
import { counted } from "../../parts/words";
import { Chooser, Running } from "./rollout";
import { ask, type Chosen, parsed, useRollout } from "./selection";
import { Versions } from "./versions";

type Draft = ReturnType<typeof useDraft>;

/** Name, version, and the one button that puts the draft in force; it says what it waits for. */
export function DefinitionHead({ draft, about }: { draft: Draft; about: React.ReactNode }) {
  const engineer = useMay("engineer");
  const d = draft.definition.data;
  const [why, setWhy] = useState("");
  const [open, setOpen] = useState(false);
  const [few, setFew] = useState(false);
  const [chosen, setChosen] = useState<Chosen>({ labels: "", site: "", share: "100" });
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
  const rollout = useRollout(d?.kind === "decoder" && d.rolling_out ? d.id : null);
  const undo = draft.publish.isSuccess && before.current !== null ? before.current : null;
  useKeys({ "Alt+z": () => undo !== null && back.mutate(undo) }, undo !== null && engineer);
  if (!d) return null;
  const casesFail = draft.publish.error instanceof Refusal && draft.publish.error.code === "cases fail";
  const first = draft.errors[0];
  const same = d.live && d.live.text === draft.text;
  const rolling = d.rolling_out && rollout.data?.text === draft.text ? d.rolling_out : null;
  const next = (d.last_number ?? 0) + 1;
  const waits = draft.overtaken
    ? "Publish waits for your choice"
    : first
      ? `Publish waits for line ${first.line}`
      : !draft.upToDate
        ? "Checking …"
        : same
          ? `Version ${d.live?.number} is in force`
          : rolling
            ? `Version ${rolling} is rolling out`
            : null;
  return (
    <Heading
      title={d.name}
      about={
        <>
          {d.live
            ? same
              ? `version ${d.live.number}`
              : rolling
                ? `version ${rolling}, for chosen devices first`
                : `draft on version ${d.live.number}`
            : "draft, not published yet"}{" "}
          · {about}
          {draft.unsaved && (
            <b role="status" className="block">
              {draft.unsaved}
            </b>
          )}
        </>
      }
    >
      {undo !== null && engineer && (
        <button type="button" className="button" disabled={back.isPending} onClick={() => back.mutate(undo)}>
          Take it back to version {undo} <Key>Alt Z</Key>
        </button>
      )}
      {d.kind === "decoder" && d.live && <Running id={d.id} versions={d.last_number ?? 1} />}
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
            {waits ?? `Publish version ${next}`}
          </Dialog.Trigger>
          <FormBox
            title={`Put ${d.name} in force`}
            submit={() => {
              before.current = few ? null : (d.live?.number ?? null);
              draft.publish.mutate(
                { why, despite: casesFail, first: few ? ask(chosen) : null },
                {
                  onSuccess: () => {
                    setOpen(false);
                    setFew(false);
                    setWhy("");
                  },
                },
              );
            }}
          >
            <p>
              From the next arrival on, this text counts. A version never changes; you can go back to an earlier one.
            </p>
            {d.kind === "decoder" && d.live && (
              <fieldset className="flex flex-wrap gap-x-5">
                <legend className="text-[12.5px] text-second">who has it</legend>
                {[
                  [false, "all devices"],
                  [true, "chosen devices first"],
                ].map(([value, word]) => (
                  <label key={String(word)} className="flex min-h-8 items-center gap-2">
                    <input type="radio" name="who" checked={few === value} onChange={() => setFew(Boolean(value))} />
                    {word}
                  </label>
                ))}
              </fieldset>
            )}
            {few && <Chooser id={d.id} chosen={chosen} change={setChosen} />}
            {effect.data && !few && (
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
            {draft.overtaken && (
              <p>Close this and look at the difference; your text is not lost, and neither is theirs.</p>
            )}
            <div className="flex gap-2">
              <button
                className="button strong"
                disabled={
                  draft.publish.isPending || Boolean(draft.overtaken) || (few && parsed(chosen.labels) === null)
                }
              >
                {draft.publish.isPending
                  ? "Publishing …"
                  : casesFail
                    ? "Publish although they fail"
                    : few
                      ? "Publish for them"
                      : "Publish"}
              </button>
              <Dialog.Close className="button" type="button">
                Leave it a draft <Key>Esc</Key>
              </Dialog.Close>
            </div>
          </FormBox>
        </Dialog.Root>
      )}
    </Heading>
  );
}
