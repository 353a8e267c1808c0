import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { FormBox } from "../../parts/dialog";
import { look } from "../../parts/look";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { scopeOf } from "../definitions/beginning";

const PARTS = ["q", "type", "site", "gateway", "state", "order"];

/** Selections that are kept under a name, for everybody: pressed, the list is filtered so, with their columns. */
export function Selections({
  filter,
  columns,
  setColumns,
}: {
  filter: Record<string, string>;
  columns: string[];
  setColumns: (next: string[]) => void;
}) {
  const client = useQueryClient();
  const kept = useKept();
  const operator = useMay("operator");
  const engineer = useMay("engineer");
  const [, setParams] = useSearchParams();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const listed = useQuery({
    queryKey: ["selections"],
    queryFn: ({ signal }) => got(api.GET("/api/v1/selections", { signal })),
  });
  const fresh = () => client.invalidateQueries({ queryKey: ["selections"] });
  const query = Object.fromEntries(PARTS.flatMap((part) => (filter[part] ? [[part, filter[part]]] : [])));
  const narrowed = PARTS.some((part) => part !== "order" && filter[part]);
  const keep = useMutation({
    mutationFn: () =>
      got(
        api.PUT("/api/v1/selections/{name}", {
          params: { path: { name: name.trim() } },
          body: {
            query,
            columns: columns.filter((c) => /^(value|label):|^(?!type|site|rhythm|heard|gateway)/.test(c)),
          },
        }),
      ),
    onSuccess: () => {
      setNaming(false);
      setName("");
      return fresh();
    },
  });
  const remove = useMutation({
    mutationFn: (gone: string) => got(api.DELETE("/api/v1/selections/{name}", { params: { path: { name: gone } } })),
    onSuccess: fresh,
  });
  const here = listed.data?.find((one) =>
    PARTS.every((part) => (one.query[part] ?? (part === "order" ? "worst" : "")) === filter[part]),
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
              for (const part of [...PARTS, "offset"]) next.delete(part);
              for (const [part, text] of Object.entries(one.query)) next.set(part, text);
              return next;
            });
            if (one.columns?.length) setColumns([...columns.filter((c) => !/^(value|label):/.test(c)), ...one.columns]);
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
      {engineer && filter.type && scopeOf(filter) && (
        <Link className="link" to={kept("/conditions", { type: filter.type, scope: scopeOf(filter) })}>
          begin a condition on these
        </Link>
      )}
      <Trouble error={remove.error} />
      <Dialog.Root open={naming} onOpenChange={setNaming}>
        <FormBox title="Keep this selection" submit={() => keep.mutate()}>
          <label className="grid gap-1">
            <span>name</span>
            <input className="input" autoFocus maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
          </label>
          <p className="text-second">
            {PARTS.flatMap((part) => (query[part] ? [`${part} ${query[part]}`] : [])).join(", ")}; everybody sees it.
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
