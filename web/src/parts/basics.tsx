import { useId, type ComponentProps, type ReactNode } from "react";
import { Refusal } from "../api/client";
import { harmless } from "./harmless";
import { ago, exact, when } from "./time";
import { wrongName } from "./written";

/** What went wrong, in the server's words. An ink bar and a mark, no hue: red is for critical alarms. */
export function Trouble({ error, retry }: { error: unknown; retry?: () => void }) {
  if (!error) return null;
  const text = error instanceof Refusal ? error.message : error instanceof Error ? error.message : String(error);
  return (
    <div role="alert" className="my-2 flex items-baseline gap-2 border-l-3 border-ink bg-raised px-3 py-2">
      <span aria-hidden className="font-mono font-bold">
        !
      </span>
      <span>{text}</span>
      {retry && (
        <button type="button" className="link ml-auto" onClick={retry}>
          try again
        </button>
      )}
    </div>
  );
}

export const Waiting = ({ what }: { what: string }) => <p className="py-3 text-second">Fetching {what} …</p>;

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="my-4 max-w-xl border-l-3 border-line py-1 pl-4">
      <p className="font-semibold">{title}</p>
      <div className="text-second">{children}</div>
    </div>
  );
}

/** A labelled input; what is wrong with it stands below. */
export function Field({
  label,
  note,
  children,
}: {
  label: string;
  note?: ReactNode;
  children: (id: string) => ReactNode;
}) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="text-[12.5px] text-second">
        {label}
      </label>
      {children(id)}
      {note && (
        <div id={`${id}-note`} className="text-[12px] text-second">
          {note}
        </div>
      )}
    </div>
  );
}

/** A line of text. `problem`: why what stands there cannot be read. */
export function TextField({
  label,
  note,
  problem,
  ...rest
}: { label: string; note?: ReactNode; problem?: ReactNode } & ComponentProps<"input">) {
  return (
    <Field label={label} note={problem ? <Wrong>{problem}</Wrong> : note}>
      {(id) => (
        <input
          id={id}
          className="input"
          autoComplete="off"
          spellCheck={false}
          aria-invalid={Boolean(problem)}
          aria-describedby={problem || note ? `${id}-note` : undefined}
          {...rest}
        />
      )}
    </Field>
  );
}

/** What is wrong with a field, below it. */
export const Wrong = ({ children }: { children: ReactNode }) => (
  <span role="alert" className="text-ink">
    <b aria-hidden className="font-mono">
      !{" "}
    </b>
    {children}
  </span>
);

/** A name that programs use, with the rule for it and one that would do. `joint`: what stands between its words. */
export function NameField({
  joint,
  value,
  change,
  ...rest
}: {
  label: string;
  joint: "-" | "_";
  value: string;
  change: (name: string) => void;
  note?: ReactNode;
} & Omit<ComponentProps<"input">, "value" | "onChange">) {
  const wrong = wrongName(value, joint);
  return (
    <TextField
      {...rest}
      value={value}
      onChange={(e) => change(e.target.value)}
      problem={wrong && <NameProblem wrong={wrong} take={change} />}
    />
  );
}

/** The rule that a name breaks, and the button that takes one that would do. */
export function NameProblem({
  wrong,
  take,
}: {
  wrong: { problem: string; proposed: string };
  take: (name: string) => void;
}) {
  return (
    <>
      {wrong.problem}{" "}
      {wrong.proposed && (
        <button type="button" className="link" onClick={() => take(wrong.proposed)}>
          use {wrong.proposed}
        </button>
      )}
    </>
  );
}

export function Choose({
  label,
  options,
  empty,
  note,
  ...rest
}: { label: string; note?: ReactNode; options: [string, string][]; empty?: string } & ComponentProps<"select">) {
  return (
    <Field label={label} note={note}>
      {(id) => (
        <select id={id} className="input" {...rest}>
          {empty !== undefined && <option value="">{empty}</option>}
          {options.map(([value, word]) => (
            <option key={value} value={value}>
              {word}
            </option>
          ))}
        </select>
      )}
    </Field>
  );
}

/** A moment: short on the page, exact on hover. */
export function At({ at, now, relative = false }: { at: string | null | undefined; now?: Date; relative?: boolean }) {
  if (!at) return <span className="text-second">never</span>;
  const date = new Date(at);
  const moment = now ?? new Date();
  return (
    <time dateTime={at} title={exact(date)} className="whitespace-nowrap">
      {relative ? ago(date, moment) : when(date, moment)}
    </time>
  );
}

export function Heading({ title, about, children }: { title: ReactNode; about?: ReactNode; children?: ReactNode }) {
  return (
    <header className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-line pb-3">
      <h1 className="flex items-center gap-2">{title}</h1>
      <div className="min-w-0 text-second">{about}</div>
      <div className="ml-auto flex flex-wrap items-center gap-2">{children}</div>
    </header>
  );
}

type Numeric = { kind: string; unit?: string | null; codes?: Record<string, string> };

/** A value in words and digits, without its unit. */
export function shown(value: unknown, spec: Numeric): string {
  if (value === null || value === undefined) return "no value";
  if (spec.kind === "code") return spec.codes?.[String(value)] ?? `code ${String(value)}`;
  if (spec.kind === "flag") return value ? "yes" : "no";
  if (spec.kind === "time") return exact(new Date(Number(value) / 1000));
  if (Array.isArray(value)) return (value as number[]).map((v) => v.toFixed(5)).join(", ");
  if (typeof value === "number") {
    const size = Math.abs(value);
    return Number.isInteger(value)
      ? String(value)
      : value.toFixed(size >= 1000 ? 0 : size >= 100 ? 1 : size >= 1 ? 2 : 3);
  }
  return harmless(String(value));
}

/** A value as `shown`, a number with all the digits that a scale gives it. */
export const precisely = (value: unknown, spec: Numeric) =>
  typeof value === "number" && !["code", "flag", "time"].includes(spec.kind)
    ? String(Number.isInteger(value) ? value : Number(value.toPrecision(7)))
    : shown(value, spec);

/** A number with four significant digits. */
export const exactly = (value: number) => String(Number(value.toPrecision(4)));
