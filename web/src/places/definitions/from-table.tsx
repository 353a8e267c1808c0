import { useMutation } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, got } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { DialogTitle, Sheet } from "../../parts/dialog";
import { Pick } from "../../parts/filters";
import { Key } from "../../parts/marks";

/** A data sheet's table becomes the draft of a decoder; rows that could not be read say why. */
export function FromTable({ name, take }: { name: string; take: (text: string) => void }) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [source, setSource] = useState<"bytes" | "registers">("bytes");
  const [order, setOrder] = useState<"big" | "little">("big");
  const read = useMutation({
    mutationFn: () => got(api.POST("/api/v1/from-table", { body: { text, name, source, order } })),
  });
  const found = read.data;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="link">from a table</Dialog.Trigger>
      <Sheet width="w-[min(680px,100vw)]">
        <DialogTitle>From the table of a data sheet</DialogTitle>
        <p className="mb-2 text-second">
          Paste rows of cells, or choose a CSV file. Columns are known by their headings: address, name, type, factor,
          unit, access, codes.
        </p>
        <textarea
          className="input font-mono text-[12.5px]"
          rows={9}
          aria-label="Table"
          placeholder={"address;name;type;factor;unit\n0;water temperature;int16;0.01;°C"}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <div className="my-2 flex flex-wrap items-center gap-2">
          <input
            type="file"
            accept=".csv,.txt,.tsv,.md"
            aria-label="CSV file"
            onChange={(e) => void e.target.files?.[0]?.text().then(setText)}
          />
          <Pick
            label="Addresses are"
            value={source}
            options={[
              ["bytes", "bytes"],
              ["registers", "registers"],
            ]}
            onChange={(v) => setSource(v as "bytes" | "registers")}
          />
          <Pick
            label="Byte order"
            value={order}
            options={[
              ["big", "big endian"],
              ["little", "little endian"],
            ]}
            onChange={(v) => setOrder(v as "big" | "little")}
          />
          <button
            type="button"
            className="button"
            disabled={!text.trim() || read.isPending}
            onClick={() => read.mutate()}
          >
            Read the table
          </button>
        </div>
        <Trouble error={read.error} />
        {found && (
          <>
            <h2 className="mt-3 mb-1">
              Draft <span>· {found.lines} lines</span>
            </h2>
            <pre tabIndex={0} aria-label="Draft" className="max-h-64 overflow-auto bg-raised p-2 font-mono text-[12px]">
              {found.text}
            </pre>
            {found.unread.length > 0 && (
              <>
                <h2 className="mt-3 mb-1">
                  Not read <span>· {found.unread.length} rows</span>
                </h2>
                <ul className="rows" aria-label="Rows not read">
                  {found.unread.map((u) => (
                    <li key={u.row} className="py-1">
                      <b>Row {u.row}:</b> {u.why}
                      <div className="truncate font-mono text-[12px] text-second">{u.text}</div>
                    </li>
                  ))}
                </ul>
              </>
            )}
          </>
        )}
        <div className="mt-3 flex gap-2">
          {found && found.lines > 0 && (
            <button
              type="button"
              className="button strong"
              onClick={() => {
                take(found.text);
                setOpen(false);
              }}
            >
              Take it as the draft
            </button>
          )}
          <Dialog.Close className="button">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </Sheet>
    </Dialog.Root>
  );
}
