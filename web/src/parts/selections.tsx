import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { useSearchParams } from "react-router";
import { api, got } from "../api/client";
import { ofSelections } from "../api/queries";
import { Trouble } from "./basics";
import { FormBox } from "./dialog";
import { look } from "./look";
import { useMay } from "./me";

/**
 * Selections of a list that are kept under a name, for everybody: pressed, the list is filtered so. `parts`: what it
 * can be filtered by, as it stands in the URL; `filter`: what it is filtered by now; `usual`: what a part is where
 * nothing is said; `columns`: kept with it; `chosen`: told the columns of one that is pressed.
 */
export function Selections({
  of,
  parts,
  filter,
  usual = {},
  columns,
  chosen,
  children,
}: {
  of: "devices" | "alarms";
  parts: readonly string[];
  filter: Record<string, string>;
  usual?: Record<string, string>;
  columns?: string[];
  chosen?: (columns: string[]) => void;
  children?: ReactNode;
}) {
  const client = useQueryClient();
  const operator = useMay("operator");
  const [, setParams] = useSearchParams();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const listed = useQuery(ofSelections(of));
  const fresh = () => client.invalidateQueries({ queryKey: ["selections", of] });
  const query = Object.fromEntries(parts.flatMap((part) => (filter[part] ? [[part, filter[part]]] : [])));
  const narrowed = parts.some((part) => !(part in usual) && filter[part]);
  const keep = useMutation({
    mutationFn: () =>
      got(
        api.PUT("/api/v1/selections/{name}", {
          params: { path: { name: name.trim() }, query: { of } },
          body: { query, ...(columns ? { columns } : {}) },
        }),
      ),
    onSuccess: () => {
      setNaming(false);
      setName("");
      return fresh();
    },
  });
  const remove = useMutation({
    mutationFn: (gone: string) =>
      got(api.DELETE("/api/v1/selections/{name}", { params: { path: { name: gone }, query: { of } } })),
    onSuccess: fresh,
  });
  const here = listed.data?.find((one) =>
    parts.every((part) => (one.query[part] ?? usual[part] ?? "") === (filter[part] ?? "")),
  );
  if (!listed.data?.length && !narrowed) return null;
  return (
    <div className="flex min-h-8 flex-wrap items-center gap-2 text-[13px]">
      {(listed.data ?? []).map((one) => (
        <button
          key={one.name}
          type="button"
          aria-pressed={one === here}
          className={look("button small", one === here ? "bg-selected! font-bold" : "")}
          title={one.by ? `kept by ${one.by}` : undefined}
          onClick={() => {
            setParams((old) => {
              const next = new URLSearchParams(old);
              for (const part of [...parts, "offset"]) next.delete(part);
              for (const [part, text] of Object.entries(one.query)) next.set(part, text);
              return next;
            });
            if (one.columns?.length) chosen?.(one.columns);
          }}
        >
          {one.name}
        </button>
      ))}
      {operator && narrowed && !here && (
        <button type="button" className="link" onClick={() => setNaming(true)}>
          keep this selection
        </button>
      )}
      {operator && here && (
        <button type="button" className="link" onClick={() => remove.mutate(here.name)}>
          forget “{here.name}”
        </button>
      )}
      {children}
      <Trouble error={remove.error} />
      <Dialog.Root open={naming} onOpenChange={setNaming}>
        <FormBox title="Keep this selection" submit={() => keep.mutate()}>
          <label className="grid gap-1">
            <span>name</span>
            <input className="input" autoFocus maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
          </label>
          <p className="text-second">
            {parts.flatMap((part) => (query[part] ? [`${part} ${query[part]}`] : [])).join(", ")}; everybody sees it.
          </p>
          <Trouble error={keep.error} />
          <button type="submit" className="button strong" disabled={!name.trim() || keep.isPending}>
            Keep
          </button>
        </FormBox>
      </Dialog.Root>
    </div>
  );
}
