import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { Trouble, Wrong } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { titled, unitOf } from "../../parts/units";
import { amount } from "../../parts/written";

/** The limits of a device's conditions, where each comes from, and its own. */
export function Setpoints({ device: d, operator }: { device: Schemas["DeviceOut"]; operator: boolean }) {
  const client = useQueryClient();
  const kept = useKept();
  const [editing, setEditing] = useState<string | null>(null);
  const [text, setText] = useState("");
  const read = amount(text);
  const save = useMutation({
    mutationFn: ({ name, value }: { name: string; value: number | null }) =>
      got(
        api.PUT("/api/v1/types/{key}/setpoints/{name}", {
          params: { path: { key: d.type, name } },
          body: { value, device: d.name },
        }),
      ),
    onSuccess: () => {
      setEditing(null);
      return client.invalidateQueries({ queryKey: ["device"] });
    },
  });
  return (
    <section>
      <h2 className="mb-1">
        Setpoints <span>· the limits of conditions, and where each comes from</span>{" "}
        <Link className="link font-normal" to={kept(`/devices/types/${d.type}/setpoints`)}>
          all as a table
        </Link>
      </h2>
      <ul className="rows">
        {d.setpoints.map((s) => (
          <li key={s.name} className="row-line flex flex-wrap items-center gap-2 pl-2.5">
            <span className="truncate" title={s.name}>
              {titled(s.name)}
            </span>
            {editing === s.name ? (
              <form
                className="ml-auto flex items-center gap-1"
                onSubmit={(e) => {
                  e.preventDefault();
                  if (typeof read.value === "number") save.mutate({ name: s.name, value: read.value });
                }}
              >
                <input
                  className="input !w-20"
                  aria-label={`${s.name} in ${unitOf(s.unit) || "1"}`}
                  aria-invalid={Boolean(read.problem)}
                  autoFocus
                  inputMode="decimal"
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                />
                <span className="unit">{unitOf(s.unit)}</span>
                <button className="button" disabled={save.isPending || typeof read.value !== "number"}>
                  Set here
                </button>
                {s.source === "device" && (
                  <button type="button" className="link" onClick={() => save.mutate({ name: s.name, value: null })}>
                    take away
                  </button>
                )}
                <button type="button" className="link" onClick={() => setEditing(null)}>
                  leave
                </button>
              </form>
            ) : (
              <>
                <span className="ml-auto">
                  <b>{s.value ?? "none"}</b> <span className="unit">{unitOf(s.unit)}</span>
                </span>
                <span className="w-24 truncate text-right text-[12.5px] text-second">{s.source_title}</span>
                {operator && (
                  <button
                    type="button"
                    className="link text-[12.5px]"
                    aria-label={`change ${s.name}`}
                    onClick={() => {
                      setEditing(s.name);
                      setText(String(s.value ?? ""));
                    }}
                  >
                    change
                  </button>
                )}
              </>
            )}
          </li>
        ))}
      </ul>
      {editing && read.problem && (
        <p className="py-1 text-[12.5px]">
          <Wrong>{read.problem}</Wrong>
        </p>
      )}
      <Trouble error={save.error} />
    </section>
  );
}
