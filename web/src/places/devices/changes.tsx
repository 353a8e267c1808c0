import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { At, Trouble, Waiting } from "../../parts/basics";
import { useMay } from "../../parts/me";
import { ofChanges } from "./queries";

const MOST = 50;

/** What was done with a thing, by whom and when; fetched when it is opened. `about`: its name. */
export function Changes({ about }: { about: string }) {
  const engineer = useMay("engineer");
  const [open, setOpen] = useState(false);
  const list = useQuery({ ...ofChanges(about, MOST), enabled: open && engineer });
  if (!engineer) return null;
  return (
    <details className="mt-5 max-w-3xl" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-6 cursor-pointer text-[12.5px] font-bold text-second">
        What was changed, and by whom
      </summary>
      {list.isPending && open && <Waiting what="the record" />}
      <Trouble error={list.error} />
      <ul className="rows mt-1">
        {list.data?.results.map((r) => (
          <li key={r.id} className="flex flex-wrap items-baseline gap-x-3 py-1">
            <span className="font-mono text-[12.5px]">
              <At at={r.at} />
            </span>
            <span>
              <b>{r.what}</b> by {r.who || "Oculum"}
            </span>
            <span className="text-[12.5px] text-second">
              {r.about && r.about !== about && `${r.about.slice(about.length).trim()} `}
              {details(r.detail)}
            </span>
          </li>
        ))}
      </ul>
      {list.data?.results.length === 0 && <p className="text-second">Nothing is on record.</p>}
      {(list.data?.count ?? 0) > MOST && <p className="text-second">The last {MOST} are shown.</p>}
    </details>
  );
}

const details = (found: unknown) =>
  Object.entries((found ?? {}) as Record<string, unknown>)
    .filter(([, value]) => value !== null && value !== "" && value !== "None")
    .map(
      ([name, value]) =>
        `${name.replaceAll("_", " ")}: ${typeof value === "object" ? JSON.stringify(value) : String(value)}`,
    )
    .join(", ");
