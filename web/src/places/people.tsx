import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { At, Choose, Heading, TextField, Trouble, Waiting } from "../parts/basics";
import { useMe } from "../parts/me";
import { counted } from "../parts/words";
import { ofPeople, ofRecord } from "./queries";

const ROLES = ["viewer", "operator", "engineer", "admin"] as const;
const MEANING = {
  viewer: "looks",
  operator: "takes alarms, sets setpoints",
  engineer: "writes definitions, registers devices",
  admin: "also people",
};
const USERNAME = /^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$/;
type Role = (typeof ROLES)[number];

export default function People() {
  const client = useQueryClient();
  const me = useMe();
  const people = useQuery(ofPeople());
  const record = useQuery(ofRecord());
  const again = () =>
    client.invalidateQueries({ predicate: (q) => ["people", "record"].includes(String(q.queryKey[0])) });
  const change = useMutation({
    mutationFn: ({ id, body }: { id: number; body: Schemas["PatchedPersonOutRequest"] }) =>
      got(api.PATCH("/api/v1/people/{id}", { params: { path: { id } }, body })),
    onSuccess: again,
  });
  const [f, setF] = useState({ username: "", name: "", role: "viewer" as Role, password: "" });
  const add = useMutation({
    mutationFn: () => got(api.POST("/api/v1/people", { body: { ...f, is_active: true } })),
    onSuccess: () => {
      setF({ username: "", name: "", role: "viewer", password: "" });
      return again();
    },
  });
  const whole = USERNAME.test(f.username) && f.name.trim() !== "" && f.password.length >= 12;
  if (people.isPending) return <Waiting what="people" />;
  return (
    <>
      <Heading title="People" about="Who may sign in, and what each may do" />
      <Trouble error={people.error ?? change.error} />
      <div className="grid gap-8 xl:grid-cols-[1.2fr_1fr]">
        <div>
          <ul className="rows">
            {people.data?.results.map((p) => (
              <li key={p.id} className="row-line grid grid-cols-[minmax(0,1fr)_150px_110px] items-center gap-3 py-1">
                <span>
                  <b>{p.name}</b> <span className="text-second">{p.username}</span>
                  {!p.is_active && <b> · may not sign in</b>}
                </span>
                <select
                  className="input"
                  aria-label={`role of ${p.username}`}
                  value={p.role}
                  disabled={p.username === me.username}
                  onChange={(e) => change.mutate({ id: p.id, body: { role: e.target.value as Role } })}
                >
                  {ROLES.map((r) => (
                    <option key={r}>{r}</option>
                  ))}
                </select>
                {p.username !== me.username && (
                  <button
                    type="button"
                    className="link text-left"
                    onClick={() => change.mutate({ id: p.id, body: { is_active: !p.is_active } })}
                  >
                    {p.is_active ? "lock out" : "let in again"}
                  </button>
                )}
              </li>
            ))}
          </ul>
          <h2 className="mt-6 mb-1">Add a person</h2>
          <form
            noValidate
            className="grid gap-3 sm:grid-cols-2"
            onSubmit={(e) => {
              e.preventDefault();
              if (whole) add.mutate();
            }}
          >
            <TextField
              label="user name"
              value={f.username}
              onChange={(e) => setF({ ...f, username: e.target.value })}
              note="to sign in with: maud"
              problem={
                f.username && !USERNAME.test(f.username)
                  ? "letters a-z, digits, dots, hyphens and underscores, beginning with a letter or digit"
                  : undefined
              }
            />
            <TextField
              label="name"
              note="as others see it: Maud Varn"
              value={f.name}
              onChange={(e) => setF({ ...f, name: e.target.value })}
            />
            <Choose
              label="role"
              value={f.role}
              onChange={(e) => setF({ ...f, role: e.target.value as Role })}
              options={ROLES.map((r) => [r, `${r}: ${MEANING[r]}`])}
            />
            <TextField
              label="first password"
              type="password"
              autoComplete="new-password"
              value={f.password}
              onChange={(e) => setF({ ...f, password: e.target.value })}
              note="12 characters or more; the person chooses another at the first sign-in"
              problem={
                f.password && f.password.length < 12
                  ? `${counted(12 - f.password.length, "character")} more: it has 12 or more`
                  : undefined
              }
            />
            <div>
              <button className="button strong" disabled={add.isPending || !whole}>
                Add
              </button>
            </div>
          </form>
          <Trouble error={add.error} />
        </div>
        <section>
          <h2 className="mb-1">
            On record <span>· who did what</span>
          </h2>
          <ul className="rows">
            {record.data?.results.map((r) => (
              <li key={r.id} className="row-line flex items-center gap-2">
                <span className="w-24 text-[12.5px] text-second">
                  <At at={r.at} />
                </span>
                <b className="w-16 truncate">{r.who || "set-up"}</b>
                <span className="truncate">
                  {r.what} {r.about}
                </span>
              </li>
            ))}
          </ul>
        </section>
      </div>
    </>
  );
}
