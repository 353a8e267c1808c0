import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { ofTypes } from "../../api/queries";
import { Choose, TextField, Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { useGoOn } from "../../parts/go-on";
import { useKept } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { renamed } from "./beginning";

/** Begins another condition with the same text, under a name of its own and for a type that is chosen. */
export function Copy({ definition: d, text }: { definition: Schemas["DefinitionOut"]; text: string }) {
  const client = useQueryClient();
  const goOn = useGoOn();
  const kept = useKept();
  const types = useQuery(ofTypes());
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [type, setType] = useState(d.type);
  const make = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/v1/definitions", {
          body: { kind: "condition", name, type, draft: onType(renamed(text, name), d.type, type) },
        }),
      ),
  });
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(on) => {
        setOpen(on);
        setName(`${d.name}, copy`.slice(0, 120));
        setType(d.type);
        make.reset();
      }}
    >
      <Dialog.Trigger className="button">Copy</Dialog.Trigger>
      <FormBox
        title={`A copy of ${d.name}`}
        submit={() =>
          make.mutate(undefined, {
            onSuccess: (made) => {
              setOpen(false);
              void client.invalidateQueries({ queryKey: ["definitions"] });
              goOn<Schemas["DefinitionOut"]>((one) => kept(`/conditions/${one.id}`))(made);
            },
          })
        }
      >
        <p>It begins as a draft with the text as it stands here; nothing watches by it before it is published.</p>
        <TextField
          label="name"
          required
          maxLength={120}
          autoFocus
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Choose
          label="device type"
          value={type}
          onChange={(e) => setType(e.target.value)}
          options={(types.data?.results ?? []).map((t) => [t.key, t.title])}
        />
        <Trouble error={make.error} />
        <div className="flex gap-2">
          <button className="button strong" disabled={make.isPending || !name.trim()}>
            Begin the copy
          </button>
          <Dialog.Close className="button" type="button">
            Cancel <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </FormBox>
    </Dialog.Root>
  );
}

/** The text on another type: the type's name in its `on` line. */
const onType = (text: string, from: string, to: string) =>
  from === to ? text : text.replace(new RegExp(`^(\\s*on\\b.*?)\\b${from}\\b`, "m"), (_, start: string) => start + to);
