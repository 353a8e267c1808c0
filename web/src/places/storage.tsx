import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { At, Heading, Trouble, Waiting } from "../parts/basics";
import { useKept } from "../parts/lookback-state";
import { useMay } from "../parts/me";
import { ofStorage } from "./queries";
import { kept as ofDays, size } from "./storage-sizes";

type Told = Schemas["StorageOut"];
type Kind = Schemas["KindTaken"];
const WORDS: Record<Kind["what"], [string, string]> = {
  messages: ["Messages", "raw payloads, and why some were refused; without them nothing can be decoded again"],
  readings: ["Readings", "values by device and time, what they replaced, the newest ones"],
  counts: ["Counts", "messages by the hour, what routes did, in which state devices were"],
  journal: ["Journal", "alarms that are over, notes, and who was told"],
};
const DAYS = /^[1-9][0-9]{0,4}$/;

/** What a change would free, by days as they are stored; nothing where more is kept than before. */
function Frees({ kind, days }: { kind: Kind; days: number }) {
  if (days >= kind.days) return <span className="text-second">{days > kind.days ? "nothing" : ""}</span>;
  if (kind.by_day.length === 0) return <span className="text-second">what is older</span>;
  return <b>{size(ofDays(kind.by_day, days, new Date()))}</b>;
}

function Days({
  label,
  value,
  change,
  empty,
}: {
  label: string;
  value: string;
  change: (text: string) => void;
  empty?: string;
}) {
  const wrong = value !== "" && !DAYS.test(value);
  return (
    <span className="inline-flex items-center gap-1.5">
      <input
        className="input w-20 text-right"
        inputMode="numeric"
        aria-label={label}
        aria-invalid={wrong || undefined}
        placeholder={empty}
        value={value}
        onChange={(e) => change(e.target.value.trim())}
      />
      days
      {wrong && <span className="font-bold">a whole number</span>}
    </span>
  );
}

/** What is stored, what it takes, since when, and for how long it is kept. */
export default function Storage() {
  const kept = useKept();
  const admin = useMay("admin");
  const client = useQueryClient();
  const found = useQuery(ofStorage());
  const [wanted, setWanted] = useState<Record<string, string>>({});
  const keep = useMutation({
    mutationFn: (kept: Schemas["KeptInRequest"][]) => got(api.PUT("/api/v1/storage", { body: { kept } })),
    onSuccess: (told: Told) => {
      client.setQueryData(["storage"], told);
      setWanted({});
    },
  });
  const told = found.data;
  if (!told) return found.error ? <Trouble error={found.error} /> : <Waiting what="what is stored" />;
  const put = (key: string, before: string) => (text: string) =>
    setWanted((old) => {
      const next = { ...old, [key]: text };
      if (text === before) delete next[key];
      return next;
    });
  const changes: Schemas["KeptInRequest"][] = Object.entries(wanted).map(([key, text]) => {
    const [what, type] = key.split(" ") as [Kind["what"], string?];
    return { what, ...(type ? { type } : {}), days: text === "" ? null : Number(text) };
  });
  const sound = Object.values(wanted).every((text) => text === "" || DAYS.test(text));
  return (
    <>
      <Heading title="Storage" about={`${size(told.database)} in the database, ${size(told.free)} free on the disk`}>
        <Link className="button" to={kept("/settings")}>
          Settings
        </Link>
      </Heading>
      <table className="w-full max-w-4xl" aria-label="What is stored">
        <thead className="text-left text-[12.5px] text-second">
          <tr>
            <th className="font-normal">what</th>
            <th className="px-3 text-right font-normal">takes</th>
            <th className="px-3 font-normal">since</th>
            <th className="px-3 font-normal">kept for</th>
            <th className="px-3 text-right font-normal">a change frees</th>
          </tr>
        </thead>
        <tbody>
          {told.kinds.map((kind) => {
            const [word, about] = WORDS[kind.what];
            const text = wanted[kind.what] ?? String(kind.days);
            return (
              <tr key={kind.what} className="border-t border-line align-top">
                <th className="py-2 text-left font-normal">
                  <b>{word}</b>
                  <span className="block text-[12.5px] text-second">{about}</span>
                </th>
                <td className="px-3 py-2 text-right whitespace-nowrap">
                  {size(kind.bytes)}
                  <span className="block text-[12.5px] text-second">{kind.rows.toLocaleString("en")} rows</span>
                </td>
                <td className="px-3 py-2">{kind.since ? <At at={kind.since} /> : "–"}</td>
                <td className="px-3 py-2 whitespace-nowrap">
                  {admin ? (
                    <Days
                      label={`${word}: days kept`}
                      value={text}
                      change={put(kind.what, String(kind.days))}
                      empty="as before"
                    />
                  ) : (
                    `${kind.days} days`
                  )}
                </td>
                <td className="px-3 py-2 text-right whitespace-nowrap">
                  {DAYS.test(text) && <Frees kind={kind} days={Number(text)} />}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <section className="mt-6 max-w-4xl">
        <h2 className="mb-1">
          Readings by type <span>· where a type keeps them for another time than all others</span>
        </h2>
        <ul className="grid gap-x-8 gap-y-1 sm:grid-cols-2 lg:grid-cols-3">
          {told.types.map((type) => {
            const key = `readings ${type.type}`;
            const before = type.days === null ? "" : String(type.days);
            return (
              <li key={type.type} className="flex items-center gap-2 border-t border-line py-1">
                <span className="min-w-0 flex-1 truncate">{type.title}</span>
                {admin ? (
                  <Days
                    label={`Readings of ${type.title}: days kept`}
                    value={wanted[key] ?? before}
                    change={put(key, before)}
                    empty="as all"
                  />
                ) : (
                  <span className="text-second">{type.days === null ? "as all" : `${type.days} days`}</span>
                )}
              </li>
            );
          })}
        </ul>
      </section>
      <Trouble error={keep.error} />
      {admin && (
        <p className="mt-4 flex items-center gap-3">
          <button
            type="button"
            className="button strong"
            disabled={changes.length === 0 || !sound || keep.isPending}
            onClick={() => keep.mutate(changes)}
          >
            Keep it so
          </button>
          <span className="text-second">
            {keep.isSuccess && changes.length === 0
              ? "Done. What is older goes within ten minutes, and cannot be brought back."
              : "What is older goes within ten minutes, and cannot be brought back but from a backup."}
          </span>
        </p>
      )}
    </>
  );
}
