import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { useMay } from "../../parts/me";
import { unitOf } from "../../parts/units";

/** Setpoints that are tried: a trial goes by them, the engine not, until somebody sets them. */
export function Supposed({
  type,
  supposed,
  clear,
  device,
}: {
  type: Schemas["TypeOut"] | undefined;
  supposed: Record<string, number>;
  clear: () => void;
  device: string | null;
}) {
  const client = useQueryClient();
  const operator = useMay("operator");
  const set = useMutation({
    mutationFn: async (only: string | null) => {
      for (const [name, value] of Object.entries(supposed))
        await got(
          api.PUT("/api/v1/types/{key}/setpoints/{name}", {
            params: { path: { key: type?.key ?? "", name } },
            body: { value, ...(only ? { device: only } : {}) },
          }),
        );
    },
    onSuccess: async () => {
      clear();
      await client.invalidateQueries({
        predicate: (q) =>
          ["types", "device", "devices"].includes(String(q.queryKey[0])) || String(q.queryKey[0]).startsWith("/api/"),
      });
    },
  });
  const names = Object.keys(supposed);
  if (!type || names.length === 0) return null;
  return (
    <div
      role="status"
      className="mt-1 flex flex-wrap items-center gap-x-3 gap-y-1 border-l-3 border-ink bg-raised px-3 py-1"
    >
      <span>
        Tried:{" "}
        {names.map((name) => {
          const spec = type.setpoints?.find((s) => s.name === name);
          return (
            <b key={name}>
              {name} {spec?.value ?? "none"} → {supposed[name]} {unitOf(spec?.unit)}{" "}
            </b>
          );
        })}
      </span>
      <button
        type="button"
        className="button small"
        disabled={!operator || set.isPending}
        onClick={() => set.mutate(null)}
      >
        Set it for every {type.title.toLowerCase()}
      </button>
      {device && (
        <button
          type="button"
          className="button small"
          disabled={!operator || set.isPending}
          onClick={() => set.mutate(device)}
        >
          Set it for {device} alone
        </button>
      )}
      <button type="button" className="link" onClick={clear}>
        leave it as it is
      </button>
      <Trouble error={set.error} />
    </div>
  );
}
