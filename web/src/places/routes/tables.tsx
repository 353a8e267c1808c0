import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ident, useAddress } from "../../parts/address";
import { At, Empty, Heading, TextField, Trouble, Waiting } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Sure } from "../../parts/sure";
import { unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { ofTables, ofTable } from "./queries";

type Column = Schemas["TableWhole"]["columns"][number];
const MOST_BYTES = 1_000_000;
const SHOWN = 300;

const ADDRESS = { table: ident };

/** Reference tables: small tables of known things that routes look up by their first column. */
export default function Tables() {
  const kept = useKept();
  const engineer = useMay("engineer");
  const tables = useQuery(ofTables());
  const [asked, put] = useAddress(ADDRESS);
  const [adding, setAdding] = useState(false);
  const chosen = asked.table ?? tables.data?.[0]?.id ?? null;
  return (
    <>
      <Heading title="Reference tables" about="What routes look up: samples, owners, offsets by device">
        <Link className="button inline-flex items-center" to={kept("/routes")}>
          The book
        </Link>
        {engineer && (
          <button type="button" className="button strong" aria-expanded={adding} onClick={() => setAdding(!adding)}>
            Add a table
          </button>
        )}
      </Heading>
      {adding && (
        <TableFile
          table={null}
          done={(id) => {
            setAdding(false);
            put({ table: id });
          }}
        />
      )}
      <Trouble error={tables.error} retry={() => void tables.refetch()} />
      {tables.isPending && <Waiting what="the tables" />}
      {tables.data?.length === 0 && !adding && (
        <Empty title="No table yet.">
          Add one as CSV. Its first column is the key; a route reads another by{" "}
          <code>entry("samples", offset, device)</code>.
        </Empty>
      )}
      {tables.data && tables.data.length > 0 && (
        <div className="grid gap-6 md:grid-cols-[220px_minmax(0,1fr)]">
          <ul className="rows" aria-label="Tables">
            {tables.data.map((t) => (
              <li key={t.id}>
                <button
                  type="button"
                  aria-current={t.id === chosen}
                  className={`row-line w-full px-2 text-left ${t.id === chosen ? "is-selected" : ""}`}
                  onClick={() => put({ table: t.id })}
                >
                  <b className="block truncate">{t.name}</b>
                  <span className="text-[12.5px] text-second">{counted(t.rows, "row")}</span>
                </button>
              </li>
            ))}
          </ul>
          {chosen !== null && <TableView key={chosen} id={chosen} engineer={engineer} />}
        </div>
      )}
    </>
  );
}

function TableView({ id, engineer }: { id: number; engineer: boolean }) {
  const client = useQueryClient();
  const table = useQuery(ofTable(id));
  const [changing, setChanging] = useState(false);
  const remove = useMutation({
    mutationFn: async () => {
      await got(api.DELETE("/api/v1/tables/{ident}", { params: { path: { ident: id } } }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["tables"] }),
  });
  if (!table.data) return table.error ? <Trouble error={table.error} /> : <Waiting what="the table" />;
  const t = table.data;
  return (
    <section className="min-w-0" aria-label={t.name}>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2>{t.name}</h2>
        <span className="text-second">
          {counted(t.values.length, "row")} · changed <At at={t.at} />
          {t.used_by.length > 0 && ` · looked up by ${t.used_by.join(", ")}`}
        </span>
        <span className="ml-auto flex gap-2">
          <a className="button" href={`/api/v1/tables/${id}/file`} download>
            As a file
          </a>
          {engineer && (
            <button type="button" className="button" aria-expanded={changing} onClick={() => setChanging(!changing)}>
              Bring in anew
            </button>
          )}
          {engineer && (
            <Sure
              disabled={t.used_by.length > 0 || remove.isPending}
              title={t.used_by.length ? "a route looks it up" : undefined}
              act={() => remove.mutate()}
            >
              Remove
            </Sure>
          )}
        </span>
      </div>
      {changing && <TableFile table={t} done={() => setChanging(false)} />}
      <Trouble error={remove.error} />
      <div className="max-h-[62vh] overflow-auto" tabIndex={0} role="group" aria-label="Rows">
        <table className="plain-table">
          <thead>
            <tr>
              {t.columns.map((c, k) => (
                <th key={c.name} scope="col">
                  {c.name} <span className="font-normal text-second">{about(c, k)}</span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {t.values.slice(0, SHOWN).map((row, i) => (
              <tr key={i}>
                {row.map((value, k) => (
                  <td key={k} className={typeof value === "number" ? "text-right tabular-nums" : ""}>
                    {value === null ? "" : value === true ? "yes" : value === false ? "no" : String(value)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
        {t.values.length > SHOWN && (
          <p className="mt-1 text-second">The first {SHOWN} rows; all of them are in the file.</p>
        )}
      </div>
    </section>
  );
}

function about(c: Column, place: number): string {
  const words = [
    place === 0 ? "key" : "",
    c.kind === "number" ? unitOf(c.unit ?? "") || "number" : c.kind === "flag" ? "yes or no" : "",
    place > 0 && c.required ? "required" : "",
    place > 0 && c.unique ? "unique" : "",
  ];
  const said = words.filter(Boolean).join(", ");
  return said ? `(${said})` : "";
}

/** A table in as CSV: what would become of it is shown before it is taken; a bad row keeps all of it out. */
function TableFile({ table, done }: { table: Schemas["TableWhole"] | null; done: (id: number) => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<Error | null>(null);
  const bring = useMutation({
    mutationFn: (dry_run: boolean) =>
      table
        ? got(api.PUT("/api/v1/tables/{ident}", { params: { path: { ident: table.id } }, body: { text, dry_run } }))
        : got(api.POST("/api/v1/tables", { body: { name: name.trim() || "samples", text, dry_run } })),
    onSuccess: async (found) => {
      if (!found.table) return;
      await client.invalidateQueries({ queryKey: ["tables"] });
      done(found.table.id);
    },
  });
  const found = bring.data;
  const read = async (file: File | undefined) => {
    setWrong(null);
    bring.reset();
    if (!file) return;
    if (file.size > MOST_BYTES) return setWrong(new Error(`${file.name} is larger than 1 MB.`));
    setText(await file.text());
    if (!name && !table) setName(file.name.replace(/\.csv$/i, ""));
  };
  return (
    <form
      className="mb-4 grid max-w-3xl gap-2 border-l-3 border-ink pl-4"
      aria-label={table ? `${table.name} anew` : "A new table"}
      onSubmit={(e) => {
        e.preventDefault();
        bring.mutate(false);
      }}
    >
      {!table && (
        <TextField label="name" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
      )}
      <label className="flex flex-wrap items-center gap-2">
        <span className="text-second">a CSV file, or its text below</span>
        <input type="file" accept=".csv,text/csv" onChange={(e) => void read(e.target.files?.[0])} />
      </label>
      <textarea
        className="input font-mono text-[12.5px]"
        rows={6}
        aria-label="CSV"
        placeholder={"device, offset [mg/L] !, taken_by text\nbuoy-07, 0.25, Maud"}
        value={text}
        onChange={(e) => {
          bring.reset();
          setText(e.target.value);
        }}
      />
      <p className="text-[12.5px] text-second">
        Headings are names. A unit in brackets makes a column a number; <code>number</code>, <code>text</code> and{" "}
        <code>flag</code> say so by themselves; <code>!</code> is required, <code>*</code> unique. The first column is
        the key.
      </p>
      {found && (
        <div role="status">
          <p>
            <b>{counted(found.rows, "row")}</b> {found.table ? "taken" : "can be taken"}
            {found.refused.length > 0 && (
              <>
                , <b>{found.refused.length} cannot</b>: nothing is taken until they are mended
              </>
            )}
            .
          </p>
          {found.refused.length > 0 && (
            <ul className="rows max-h-40 overflow-y-auto" aria-label="Refused rows">
              {found.refused.map((r) => (
                <li key={r.line} className="row-line flex items-center gap-3 px-1">
                  <span className="w-14 text-second">line {r.line}</span>
                  {r.why}
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
      <Trouble error={wrong ?? bring.error} />
      <div className="flex gap-2">
        <button
          type="button"
          className="button"
          disabled={!text || bring.isPending || (!table && !name.trim())}
          onClick={() => bring.mutate(true)}
        >
          Look at it first
        </button>
        <button className="button strong" disabled={!text || bring.isPending || (!table && !name.trim())}>
          {bring.isPending ? "Reading …" : "Take it"}
        </button>
      </div>
    </form>
  );
}
