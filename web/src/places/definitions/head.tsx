import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useRef, useState } from "react";
import { api, got, Refusal } from "../../api/client";
import { Heading, TextField, Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { useKeys } from "../../parts/keys";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { Copy } from "./copy";
import type { useDraft } from "./draft";
import { SwitchOff } from "./off";
import { ofRun, ofEffect } from "./queries";
import { Chooser, Running } from "./rollout";
import { ask, type Chosen, parsed, useRollout } from "./selection";
import { Versions } from "./versions";

type Draft = ReturnType<typeof useDraft>;

/** Name, version, and the one button that puts the draft in force; it says what it waits for. */
export function DefinitionHead({
  draft,
  about,
  opens = null,
}: {
  draft: Draft;
  about: React.ReactNode;
  /** How many alarms it would have open now, as a trial of this text says. */
  opens?: number | null;
}) {
  const engineer = useMay("engineer");
  const d = draft.definition.data;
  const [why, setWhy] = useState("");
  const [open, setOpen] = useState(false);
  const [few, setFew] = useState(false);
  const [chosen, setChosen] = useState<Chosen>({ labels: "", site: "", share: "100" });
  const client = useQueryClient();
  const before = useRef<number | null>(null);
  const [opening, setOpening] = useState(0);
  const sound = draft.ready && draft.sound && draft.upToDate;
  // Run anew each time the dialog opens: the cases or the text may have changed since.
  const cases = useQuery({
    ...ofRun(d?.id ?? 0, draft.text, `publish ${opening}`),
    enabled: open && d?.kind === "decoder" && sound,
    gcTime: 0,
    retry: false,
  });
  const effect = useQuery({ ...ofEffect(d?.id ?? 0), enabled: open && Boolean(d) });
  const back = useMutation({
    mutationFn: (number: number) =>
      got(api.POST("/api/v1/definitions/{ident}/in-force", { params: { path: { ident: d!.id } }, body: { number } })),
    onSuccess: () => {
      before.current = null;
      draft.publish.reset();
      return client.invalidateQueries();
    },
  });
  const rollout = useRollout(d?.rolling_out ? d.id : null);
  const undo = draft.publish.isSuccess && before.current !== null ? before.current : null;
  useKeys({ "Alt+z": () => undo !== null && back.mutate(undo) }, undo !== null && engineer);
  if (!d) return null;
  // A route counts for all that it selects, a condition on sites looks at all devices of a site together.
  const goesFirst = d.kind === "decoder" || (d.kind === "condition" && !/^\s*on each site of\b/m.test(draft.text));
  const failing = cases.data?.failing ?? 0;
  const casesFail =
    failing > 0 || (draft.publish.error instanceof Refusal && draft.publish.error.code === "cases fail");
  const first = draft.errors[0];
  const same = d.live && d.live.text === draft.text;
  const rolling = d.rolling_out && rollout.data?.text === draft.text ? d.rolling_out : null;
  const next = (d.last_number ?? 0) + 1;
  const waits = draft.overtaken
    ? "Publish waits for your choice"
    : first
      ? draft.begun
        ? `Publish waits for line ${first.line}`
        : "Publish waits for a first line"
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
          {!draft.unsaved && engineer && (!d.live || d.live.text !== draft.text) && (
            <span className="text-[12.5px]"> · {draft.saved ? "saved" : "saving …"}</span>
          )}
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
      {engineer && d.kind === "condition" && <Copy definition={d} text={draft.text} />}
      {engineer && d.kind === "condition" && d.live && !d.off_until && <SwitchOff definition={d} />}
      {engineer && d.live && <Ending definition={d} />}
      {engineer && (
        <Dialog.Root
          open={open}
          onOpenChange={(on) => {
            setOpen(on);
            if (on) {
              draft.publish.reset();
              setOpening(opening + 1);
            }
          }}
        >
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
            {goesFirst && d.live && (
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
                <b>{counted(effect.data.routes, "route")}</b> in force,{" "}
                <b>{counted(effect.data.conditions, "condition")}</b> in force and{" "}
                <b>{counted(effect.data.open_alarms, "open alarm")}</b>.
              </p>
            )}
            {(draft.check.data?.takes_away.length ?? 0) > 0 && (
              <p role="status" className="border-l-3 border-ink pl-3">
                <b>It no longer gives what others use:</b> {takesAway(draft.check.data?.takes_away ?? [])}. They go on,
                and see nothing of it.
              </p>
            )}
            {opens !== null && (
              <p>
                By the trial <b>{counted(opens, "alarm")}</b> would be open now.
              </p>
            )}
            {d.kind === "decoder" && (
              <p role="status">
                {cases.isFetching
                  ? "The cases are being run …"
                  : failing > 0 && (
                      <>
                        <b>
                          {failing} of {counted(cases.data?.cases.length ?? 0, "case")}{" "}
                          {failing === 1 ? "fails" : "fail"}:
                        </b>{" "}
                        {cases.data?.cases
                          .filter((c) => !c.passed)
                          .slice(0, 3)
                          .map((c) => `${c.name}, ${c.differences[0] ?? "differs"}`)
                          .join("; ")}
                      </>
                    )}
              </p>
            )}
            <TextField
              label="why (optional, stays with the version)"
              value={why}
              maxLength={300}
              autoFocus
              onChange={(e) => setWhy(e.target.value)}
            />
            {!(failing > 0 && casesFail) && <Trouble error={draft.publish.error} />}
            {draft.overtaken && (
              <p>Close this and look at the difference; your text is not lost, and neither is theirs.</p>
            )}
            <div className="flex gap-2">
              <button
                className="button strong"
                disabled={
                  draft.publish.isPending ||
                  cases.isFetching ||
                  Boolean(draft.overtaken) ||
                  (few && parsed(chosen.labels) === null)
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

const takesAway = (gone: { field: string; users: string[] }[]) =>
  gone.map((t) => `${t.field} (${t.users.slice(0, 3).join(", ")})`).join("; ");

/** Takes a definition out of force, with what that means said first; an earlier version can be put in force again. */
function Ending({ definition: d }: { definition: NonNullable<Draft["definition"]["data"]> }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const end = useMutation({
    mutationFn: () => got(api.POST("/api/v1/definitions/{ident}/retire", { params: { path: { ident: d.id } } })),
    onSuccess: () => {
      setOpen(false);
      return client.invalidateQueries();
    },
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">End it</Dialog.Trigger>
      <FormBox title={`Take ${d.name} out of force`} submit={() => end.mutate()}>
        <p>
          {d.kind === "condition"
            ? "It watches no longer, and its open alarms are cleared. The journal keeps them."
            : d.kind === "route"
              ? "Readings pass it by from now on. What it has changed stays as it is stored."
              : "What arrives from now on waits for a decoder. What was read stays."}{" "}
          Every version stays here, and can be put in force again.
        </p>
        <Trouble error={end.error} />
        <div className="flex gap-2">
          <button className="button strong" disabled={end.isPending}>
            End it
          </button>
          <Dialog.Close className="button" type="button">
            Leave it in force <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </FormBox>
    </Dialog.Root>
  );
}
