import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { At, TextField, Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { Key } from "../../parts/marks";
import { fromShown, toShown, zoneWord } from "../../parts/time";

type Definition = Schemas["DefinitionOut"];
const SPANS: [string, number][] = [
  ["2 hours", 2],
  ["8 hours", 8],
  ["a day", 24],
  ["a week", 168],
];

/** Switches a condition off until a moment, with the reason; it comes back by itself. */
export function SwitchOff({ definition: d }: { definition: Definition }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [until, setUntil] = useState("");
  const [why, setWhy] = useState("");
  const at = fromShown(until);
  const off = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions/{ident}/off", {
          params: { path: { ident: d.id } },
          body: { until: at?.toISOString() ?? "", why },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      return client.invalidateQueries();
    },
  });
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(on) => {
        setOpen(on);
        setUntil(toShown(new Date(Date.now() + 8 * 3_600_000)));
        off.reset();
      }}
    >
      <Dialog.Trigger className="button">Switch off</Dialog.Trigger>
      <FormBox title={`Switch ${d.name} off for a time`} submit={() => off.mutate()}>
        <p>It watches nothing until then, and its open alarms are cleared with the reason. It comes back by itself.</p>
        <div className="flex flex-wrap items-end gap-2">
          <TextField
            label={`until, ${zoneWord()}`}
            type="datetime-local"
            required
            value={until}
            onChange={(e) => setUntil(e.target.value)}
          />
          {SPANS.map(([word, hours]) => (
            <button
              key={word}
              type="button"
              className="button small"
              onClick={() => setUntil(toShown(new Date(Date.now() + hours * 3_600_000)))}
            >
              {word}
            </button>
          ))}
        </div>
        <TextField
          label="why"
          required
          maxLength={300}
          value={why}
          placeholder="the mast is being repaired"
          onChange={(e) => setWhy(e.target.value)}
        />
        <Trouble error={off.error} />
        <div className="flex gap-2">
          <button className="button strong" disabled={off.isPending || !at || !why.trim()}>
            Switch it off
          </button>
          <Dialog.Close className="button" type="button">
            Leave it on <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </FormBox>
    </Dialog.Root>
  );
}

/** Says that a condition is off, until when and why, and switches it on again. */
export function OffStrip({ definition: d, engineer }: { definition: Definition; engineer: boolean }) {
  const client = useQueryClient();
  const on = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/definitions/{ident}/off", { params: { path: { ident: d.id } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  if (!d.off_until) return null;
  return (
    <div role="status" className="mb-2 flex flex-wrap items-center gap-3 border-l-3 border-ink bg-raised px-3 py-1">
      <span>
        <b>Switched off</b> until <At at={d.off_until} />
        {d.off_who && ` by ${d.off_who}`}: {d.off_why}
      </span>
      {engineer && (
        <button type="button" className="button small" disabled={on.isPending} onClick={() => on.mutate()}>
          Switch it on now
        </button>
      )}
      <Trouble error={on.error} />
    </div>
  );
}
