import { useQuery } from "@tanstack/react-query";
import { diffLines } from "diff";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { At } from "../../parts/basics";
import { DialogTitle, Sheet } from "../../parts/dialog";
import { look } from "../../parts/look";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { ofVersions } from "./queries";

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
            className={look(
              "block",
              `${part.added ? "bg-selected font-semibold" : part.removed ? "line-through opacity-70" : "text-second"}`,
            )}
          >
            {part.added ? "+ " : part.removed ? "- " : "  "}
            {row}
          </span>
        ));
      })}
    </pre>
  );
}

/** All versions of a definition with what each changed, and the way back to an earlier one. */
export function Versions({
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
  const versions = useQuery({ ...ofVersions(id), enabled: open });
  if (live === null) return null;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">Versions</Dialog.Trigger>
      <Sheet width="w-[min(560px,100vw)]">
        <DialogTitle>Versions</DialogTitle>
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
                  <button type="button" className="link" onClick={() => setWhole(whole === v.number ? null : v.number)}>
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
      </Sheet>
    </Dialog.Root>
  );
}
