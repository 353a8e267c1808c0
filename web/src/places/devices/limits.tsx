import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { At, Empty, Heading, Trouble, Waiting, Wrong } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { titled, unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { amount } from "../../parts/written";
import { LimitsFile } from "./limits-file";
import { ofLimits, ofPast, ofHistory } from "./queries";

type Row = Schemas["LimitsRow"];
type Past = Schemas["PastColumn"];
const PAGE = 200;
const OFTEN = 0.2; // a limit that holds a fifth of the time is no limit

const place = (row: Row) =>
  row.kind === "device" ? { device: row.name } : row.kind === "site" ? { site: row.name } : {};

const asked = (row: Row) => (row.kind === "type" ? { of: "type" } : place(row));

/** The setpoints of a type as one table: places down, setpoints across; own values bold, edited in place. */
export default function Limits() {
  const { key = "" } = useParams();
  const kept = useKept();
  const client = useQueryClient();
  const operator = useMay("operator");
  const [offset, setOffset] = useState(0);
  const [search, setSearch] = useState("");
  const [own, setOwn] = useState(false);
  const [at, setAt] = useState<[number, number]>([0, 0]);
  const [editing, write] = useState<string | null>(null);
  const typed = useRef(false); // begun by a digit, which stays; else what was there is chosen, to be written over
  const setEditing = (text: string | null, begun = false) => {
    typed.current = begun;
    write(text);
  };
  const [marked, setMarked] = useState<Set<string>>(new Set());
  const [file, setFile] = useState(false);
  const grid = useRef<HTMLDivElement>(null);
  const table = useQuery({ ...ofLimits(key, { offset, search, own }), placeholderData: keepPreviousData });
  const past = useQuery(ofPast(key));
  const rows = table.data?.rows ?? [];
  const columns = table.data?.columns ?? [];
  const row = rows[at[0]];
  const column = columns[at[1]];
  const history = useQuery({
    ...ofHistory(key, { setpoint: column?.name ?? "", ...(row ? asked(row) : {}) }),
    enabled: Boolean(row && column),
  });
  const set = useMutation({
    mutationFn: (changes: Schemas["ChangeInRequest"][]) =>
      got(api.PUT("/api/v1/types/{key}/setpoints", { params: { path: { key } }, body: { changes } })),
    onSuccess: async () => {
      setEditing(null);
      setMarked(new Set());
      await client.invalidateQueries({
        predicate: (q) =>
          ["limits", "limits history", "limits past", "types", "device"].includes(String(q.queryKey[0])),
      });
    },
  });
  const there = table.data !== undefined;
  useEffect(() => {
    if (editing === null) grid.current?.querySelector<HTMLElement>("[data-current]")?.focus();
  }, [at, editing, there]);
  if (table.isPending) return <Waiting what="the setpoints" />;
  if (!table.data) return <Trouble error={table.error} retry={() => void table.refetch()} />;
  const read = amount(editing ?? "");
  const targets = row && marked.has(row.name) ? rows.filter((r) => marked.has(r.name)) : row ? [row] : [];
  const put = (value: number | null) =>
    column && set.mutate(targets.map((r) => ({ name: column.name, value, ...place(r) })));
  const walk = (down: number, across: number) =>
    setAt([
      Math.min(Math.max(at[0] + down, 0), rows.length - 1),
      Math.min(Math.max(at[1] + across, 0), columns.length - 1),
    ]);
  const mark = (r: Row) => {
    const next = new Set(marked);
    if (!next.delete(r.name)) next.add(r.name);
    setMarked(next);
  };
  const title = rows[0]?.kind === "type" ? rows[0].title : key;
  return (
    <div className="limits-screen">
      <Heading
        title={`Setpoints of ${title}`}
        about={<>The limits of its conditions: a device's own value, else its site's, else the type's</>}
      >
        <Link className="button" to={kept(`/devices/types/${key}`)}>
          The type
        </Link>
        <button type="button" className="button" aria-expanded={file} onClick={() => setFile(!file)}>
          CSV in or out
        </button>
      </Heading>
      {file && <LimitsFile type={key} operator={operator} close={() => setFile(false)} />}
      <div className="mb-2 flex flex-wrap items-center gap-4">
        <input
          className="input !w-56"
          aria-label="Search devices"
          placeholder="name or title of a device"
          value={search}
          onChange={(e) => {
            setSearch(e.target.value);
            setOffset(0);
          }}
        />
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={own}
            onChange={(e) => {
              setOwn(e.target.checked);
              setOffset(0);
            }}
          />
          only with a value of their own
        </label>
        <span className="text-second">{counted(table.data.devices, "device")}</span>
        {marked.size > 0 && (
          <span role="status">
            <b>{marked.size} marked</b>: what is set goes to all of them.{" "}
            <button type="button" className="link" onClick={() => setMarked(new Set())}>
              unmark
            </button>
          </span>
        )}
      </div>
      <Trouble error={set.error} />
      {columns.length === 0 ? (
        <Empty title="This type has no setpoints.">Declare them on the type: a name, a unit and a value.</Empty>
      ) : (
        <div className="limits-desk">
          <div ref={grid} className="limits-scroll" role="grid" aria-label="Setpoints" aria-multiselectable="true">
            <div role="row" className="limits-row is-head" style={template(columns.length)}>
              <span role="columnheader">place</span>
              {columns.map((c) => (
                <span role="columnheader" key={c.name} className="text-right" title={c.name}>
                  {titled(c.name)} <span className="unit">{unitOf(c.unit)}</span>
                </span>
              ))}
            </div>
            {rows.map((r, i) => (
              <div
                role="row"
                key={`${r.kind} ${r.name}`}
                className={`limits-row ${marked.has(r.name) ? "is-marked" : ""}`}
                style={template(columns.length)}
                aria-selected={marked.has(r.name)}
              >
                <span role="rowheader" className="flex min-w-0 items-center gap-2" style={{ paddingLeft: indent(r) }}>
                  <span className={`truncate ${r.kind === "device" ? "" : "font-semibold"}`}>{r.title}</span>
                  {r.site && <span className="truncate text-[12.5px] text-second">{r.site}</span>}
                </span>
                {columns.map((c, k) => {
                  const cell = r.cells[c.name];
                  const here = i === at[0] && k === at[1];
                  const odd = r.kind === "device" ? oddness(past.data, c.name, r.name) : null;
                  if (here && editing !== null)
                    return (
                      <form
                        role="gridcell"
                        key={c.name}
                        className="flex justify-end"
                        onSubmit={(e) => {
                          e.preventDefault();
                          if (typeof read.value === "number") put(read.value);
                        }}
                      >
                        <input
                          autoFocus
                          className="input !min-h-6 !w-24 !py-0 text-right"
                          inputMode="decimal"
                          aria-label={`${c.name} of ${r.title}, ${unitOf(c.unit) || "1"}`}
                          aria-invalid={Boolean(read.problem)}
                          value={editing}
                          onFocus={(e) => !typed.current && e.target.select()}
                          onChange={(e) => setEditing(e.target.value, typed.current)}
                          onKeyDown={(e) => e.key === "Escape" && setEditing(null)}
                        />
                      </form>
                    );
                  return (
                    <span
                      role="gridcell"
                      key={c.name}
                      data-current={here || undefined}
                      tabIndex={here ? 0 : -1}
                      className={`limits-cell ${cell?.own ? "font-bold" : "text-second"}`}
                      title={`${cell?.own ? "its own" : `from ${cell?.source_title}`}${odd ? `; ${odd}` : ""}`}
                      onClick={() => setAt([i, k])}
                      onDoubleClick={() => operator && setEditing(String(cell?.value ?? ""))}
                      onKeyDown={(e) => {
                        const way = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[
                          e.key
                        ];
                        if (way) walk(way[0] ?? 0, way[1] ?? 0);
                        else if (e.key === "PageDown") walk(15, 0);
                        else if (e.key === "PageUp") walk(-15, 0);
                        else if (!operator) return;
                        else if (e.key === "Enter") setEditing(String(cell?.value ?? ""));
                        else if (/^[\d.-]$/.test(e.key)) setEditing(e.key, true);
                        else if (e.key.toLowerCase() === "x") mark(r);
                        else if (e.key === "Delete" && r.kind !== "type") put(null);
                        else return;
                        e.preventDefault();
                        e.stopPropagation();
                      }}
                    >
                      {odd && (
                        <span aria-label={odd} className="mr-1 font-mono font-bold text-ink">
                          !
                        </span>
                      )}
                      {cell?.value ?? "none"}
                    </span>
                  );
                })}
              </div>
            ))}
            {table.data.devices > PAGE && (
              <p className="flex gap-4 py-1 text-[12.5px]">
                <button
                  type="button"
                  className="link"
                  disabled={offset === 0}
                  onClick={() => setOffset(Math.max(offset - PAGE, 0))}
                >
                  the devices before
                </button>
                <span className="text-second">
                  {offset + 1} to {Math.min(offset + PAGE, table.data.devices)} of {table.data.devices}
                </span>
                <button
                  type="button"
                  className="link"
                  disabled={offset + PAGE >= table.data.devices}
                  onClick={() => setOffset(offset + PAGE)}
                >
                  the next
                </button>
              </p>
            )}
          </div>
          <aside aria-label="The chosen value">
            {row && column && (
              <>
                <h2 className="mb-1 !text-[15px] !text-ink">
                  {titled(column.name)} <span className="unit">{unitOf(column.unit)}</span>
                </h2>
                <p>
                  <b>{row.cells[column.name]?.value ?? "none"}</b> for {row.title},{" "}
                  {row.cells[column.name]?.own ? "its own" : `from ${row.cells[column.name]?.source_title}`}.
                </p>
                {editing !== null && read.problem && (
                  <p>
                    <Wrong>{read.problem}</Wrong>
                  </p>
                )}
                <PastWords past={past.data} setpoint={column.name} device={row.kind === "device" ? row.name : null} />
                {operator && row.kind !== "type" && row.cells[column.name]?.own && (
                  <p className="mt-1">
                    <button type="button" className="button small" disabled={set.isPending} onClick={() => put(null)}>
                      Take its own away
                    </button>
                  </p>
                )}
                <h2 className="mt-3 mb-1">What it was</h2>
                <ul className="rows max-h-72 overflow-y-auto">
                  {history.data?.map((h, n) => (
                    <li key={n} className="row-line flex items-center gap-2 px-1">
                      <b>{h.value ?? "taken away"}</b>
                      <span className="text-second">
                        <At at={h.at} />
                        {h.who && ` by ${h.who}`}
                      </span>
                    </li>
                  ))}
                  {history.data?.length === 0 && <li className="row-line px-1 text-second">Nobody has set it here.</li>}
                </ul>
              </>
            )}
            {operator && (
              <p className="keys mt-3 text-[12.5px] text-second">
                <Key>↑</Key> <Key>→</Key> walk <Key>Enter</Key> write <Key>X</Key> mark the row <Key>Del</Key> as above
              </p>
            )}
          </aside>
        </div>
      )}
    </div>
  );
}

const template = (columns: number) => ({
  gridTemplateColumns: `minmax(180px, 1fr) repeat(${columns}, minmax(110px, 150px))`,
});

const indent = (row: Row) => (row.kind === "type" ? 8 : row.kind === "site" ? 8 + 14 * (row.depth + 1) : 22);

/** Why a limit deserves a look, by the device's own last seven days; null where it does not. */
function oddness(past: Past[] | undefined, setpoint: string, device: string): string | null {
  const own = past?.find((p) => p.setpoint === setpoint)?.devices[device];
  if (!own || own.beyond < OFTEN) return null;
  return `beyond it ${Math.round(own.beyond * 100)} % of seven days`;
}

function PastWords({ past, setpoint, device }: { past: Past[] | undefined; setpoint: string; device: string | null }) {
  const column = past?.find((p) => p.setpoint === setpoint);
  if (past && !column) return <p className="text-second">No condition in force compares a field with it.</p>;
  const own = device ? column?.devices[device] : undefined;
  if (!column || !own) return null;
  const odd = oddness(past, setpoint, device ?? "");
  return (
    <p>
      In seven days {titled(column.field).toLowerCase()} went from {Number(own.low.toPrecision(4))} to{" "}
      {Number(own.high.toPrecision(4))}
      {odd ? (
        <>
          ; <b>{odd}</b>: the limit is far from what this device does
        </>
      ) : own.beyond > 0 ? (
        `; beyond the limit ${(own.beyond * 100).toFixed(1)} % of the time`
      ) : (
        "; never beyond the limit"
      )}
      .
    </p>
  );
}
