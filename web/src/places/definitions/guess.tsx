import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../../api/client";
import { exactly, Trouble } from "../../parts/basics";
import { Curve } from "../../parts/curve";
import { exact } from "../../parts/time";

/** Bytes read in every plausible way, over the last messages: the right one is known by its curve. */
export function Guesses({
  type,
  device,
  hex,
  first,
  last,
  taken,
  write,
  close,
}: {
  type: string;
  device: string | null;
  hex: string;
  first: number;
  last: number;
  taken: Set<string>;
  write: (line: string) => void;
  close: () => void;
}) {
  const [name, setName] = useState("");
  const length = hex.length / 2;
  const found = useQuery({
    queryKey: ["guess", type, device, length, first, last],
    queryFn: () => got(api.POST("/api/v1/guess", { body: { type, device, length, first, last } })),
    staleTime: 60_000,
  });
  const field = name.trim() || "";
  const wrong =
    field && !/^[a-z][a-z0-9_]*$/.test(field) ? "small letters, digits and _" : taken.has(field) ? "taken" : "";
  const rows = found.data?.guesses ?? [];
  return (
    <section className="my-2 border-l-3 border-line pl-3" aria-label="Ways of reading">
      <div className="flex flex-wrap items-center gap-2">
        <h2>
          {first === last ? `Byte ${first}` : `Bytes ${first} to ${last}`}
          <span>
            {" "}
            · over the last {found.data?.messages ?? "…"} messages of {length} bytes
          </span>
        </h2>
        <button type="button" className="link ml-auto" onClick={close}>
          close
        </button>
      </div>
      <Trouble error={found.error} />
      <label className="my-1 flex items-center gap-2 text-[12.5px] text-second">
        name it
        <input
          className="input !w-48"
          value={name}
          autoFocus
          spellCheck={false}
          placeholder="water_temp"
          onChange={(e) => setName(e.target.value)}
        />
        {wrong}
      </label>
      {last - first > 7 && <p>Choose at most eight bytes.</p>}
      <ul className="rows">
        {rows.map((g) => (
          <li
            key={`${g.storage} ${g.order}`}
            className="row-line grid grid-cols-[96px_minmax(0,1fr)_84px_auto] items-center gap-3"
          >
            <span className="font-mono text-[12.5px]">
              {g.storage}
              {g.order ? ` ${g.order}` : ""}
            </span>
            {g.values.length < 2 ? <span className="text-second">too few messages</span> : <Curve values={g.values} />}
            <span className="text-right">{said(g)}</span>
            <button
              type="button"
              className="link"
              disabled={!field || Boolean(wrong)}
              onClick={() => write(lineOf(g, first, field))}
            >
              take
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function said(g: Schemas["GuessOut"]) {
  const last = g.values[g.values.length - 1];
  if (last === null || last === undefined) return "none";
  return g.what === "time" ? exact(new Date(last * 1000)) : exactly(last);
}

/** The line that reads these bytes in this way. */
export function lineOf(g: { storage: string; order: string | null }, first: number, name: string) {
  const order = g.order && !g.storage.includes(" ") ? ` ${g.order}` : "";
  return `  byte ${first}  ${name}  ${g.storage}${order}`;
}
