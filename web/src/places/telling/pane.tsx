import { useMutation, useQueryClient, type UseQueryResult } from "@tanstack/react-query";
import { useEffect, useRef, type ReactNode } from "react";
import { Trouble, Waiting } from "../../parts/basics";
import { Sure } from "../../parts/sure";

type Thing = { id: number; name: string };

/** A list of things by name on the left, the chosen one on the right. `chosen`: an id, or 0 for a new one. */
export function Pane<T extends Thing>({
  found,
  what,
  none,
  chosen,
  choose,
  engineer,
  add,
  about,
  children,
}: {
  found: UseQueryResult<T[]>;
  what: string;
  none: ReactNode;
  chosen: number | null;
  choose: (id: number) => void;
  engineer: boolean;
  add: string;
  about: (thing: T) => ReactNode;
  children: (thing: T | undefined) => ReactNode;
}) {
  const row = useRef<HTMLButtonElement>(null);
  const before = useRef<number>(undefined);
  const own = found.data?.find((t) => t.id === chosen) ?? (chosen === 0 ? undefined : found.data?.[0]);
  useEffect(() => {
    // A form that was added or removed takes the focus with it.
    if (before.current !== undefined && document.activeElement === document.body) row.current?.focus();
    before.current = own?.id ?? 0;
  }, [own?.id]);
  if (found.isPending) return <Waiting what={what} />;
  if (!found.data) return <Trouble error={found.error} retry={() => void found.refetch()} />;
  return (
    <div className="grid gap-8 lg:grid-cols-[320px_minmax(0,1fr)]">
      <div className="self-start">
        <ul className="rows" aria-label={what}>
          {found.data.map((t) => (
            <li key={t.id}>
              <button
                type="button"
                ref={own?.id === t.id ? row : undefined}
                aria-pressed={own?.id === t.id}
                className={`row-line w-full px-2.5 py-1.5 text-left ${own?.id === t.id ? "is-selected" : ""}`}
                onClick={() => choose(t.id)}
              >
                <span className="font-semibold">{t.name}</span>
                <span className="block text-[12.5px] text-second">{about(t)}</span>
              </button>
            </li>
          ))}
        </ul>
        {engineer && (
          <button type="button" className="button mt-3" onClick={() => choose(0)}>
            {add}
          </button>
        )}
      </div>
      <div className="max-w-2xl min-w-0">
        {own || chosen === 0 ? children(own) : <p className="border-l-3 border-line py-1 pl-4 text-second">{none}</p>}
      </div>
    </div>
  );
}

/** The form of a thing: it is kept, added or removed here, and what was refused stands above the buttons. */
export function KeptForm<T extends Thing>({
  thing,
  queryKey,
  engineer,
  keep,
  drop,
  kept,
  trouble,
  copy,
  children,
}: {
  thing: T | undefined;
  queryKey: string;
  engineer: boolean;
  keep: () => Promise<T>;
  drop: (thing: T) => Promise<unknown>;
  kept: (id: number) => void;
  trouble: unknown;
  /** Adds another one like it. */
  copy?: () => Promise<T>;
  children: ReactNode;
}) {
  const client = useQueryClient();
  const fresh = () => client.invalidateQueries({ queryKey: [queryKey] });
  const onSuccess = async (found: T) => {
    await fresh();
    kept(found.id); // once it stands in the list
  };
  const save = useMutation({ mutationFn: keep, onSuccess });
  const another = useMutation({ mutationFn: copy ?? keep, onSuccess });
  const remove = useMutation({ mutationFn: drop, onSuccess: fresh });
  return (
    <form
      className="grid gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      {children}
      <Trouble error={save.error ?? another.error ?? remove.error ?? trouble} />
      {engineer && (
        <div className="flex gap-2">
          <button className="button strong" disabled={save.isPending}>
            {thing ? "Keep it" : "Add it"}
          </button>
          {thing && copy && (
            <button type="button" className="button" disabled={another.isPending} onClick={() => another.mutate()}>
              Copy, not in use yet
            </button>
          )}
          {thing && (
            <Sure className="button ml-auto" disabled={remove.isPending} act={() => remove.mutate(thing)}>
              Remove
            </Sure>
          )}
        </div>
      )}
    </form>
  );
}
