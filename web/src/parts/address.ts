import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

/** How a part of the address is read and written; what a part does not know is read as if it were not there. */
export type Part<T> = { read(texts: string[]): T; write(value: T): string[] };
type Parts = Record<string, Part<unknown>>;
type Values<P extends Parts> = { [Name in keyof P]: P[Name] extends Part<infer T> ? T : never };

/** Any words; nothing where there are none. */
export const word: Part<string> = { read: ([text]) => text ?? "", write: (value) => (value ? [value] : []) };

/** A name, or null. */
export const named: Part<string | null> = { read: ([text]) => text || null, write: (value) => (value ? [value] : []) };

/** A whole number from nought on, which is not written. */
export const count: Part<number> = {
  read: ([text]) => (/^\d{1,15}$/.test(text ?? "") ? Number(text) : 0),
  write: (value) => (value > 0 ? [String(value)] : []),
};

/** The number of a thing, or null. */
export const ident: Part<number | null> = {
  read: (texts) => count.read(texts) || null,
  write: (value) => (value ? [String(value)] : []),
};

/** Yes or no, of which the usual one is not written. */
export const mark = (usual: boolean): Part<boolean> => ({
  read: ([text]) => (text === "1" || text === "0" ? text === "1" : usual),
  write: (value) => (value === usual ? [] : [value ? "1" : "0"]),
});

/** One of a few words, of which the usual one is not written. */
export const oneOf = <T extends string | number>(all: readonly T[], usual: T): Part<T> => ({
  read: ([text]) => all.find((one) => String(one) === text) ?? usual,
  write: (value) => (value === usual ? [] : [String(value)]),
});

/** Several things, each by its words; `read` gives null for what is none. */
export const several = <T>(read: (text: string) => T | null, write: (one: T) => string): Part<T[]> => ({
  read: (texts) => texts.map(read).filter((one) => one !== null),
  write: (values) => values.map(write),
});

/** What a screen's address says besides its path. */
export function readAddress<P extends Parts>(parts: P, params: URLSearchParams): Values<P> {
  const pairs = Object.entries(parts).map(([name, part]) => [name, part.read(params.getAll(name))]);
  return Object.fromEntries(pairs) as Values<P>;
}

/**
 * What a screen's address says, and how to change it: the parts named are written, all others stay, but for `ends`,
 * which any other change ends, such as a page or a chosen row. A change that one can go back from is made with `back`.
 */
export function useAddress<P extends Parts>(
  parts: P,
  { ends, back = false }: { ends?: string; back?: boolean } = {},
): [Values<P>, (change: Partial<Values<P>>) => void] {
  const [params, setParams] = useSearchParams();
  const put = useCallback(
    (change: Partial<Values<P>>) =>
      setParams(
        (old) => {
          const fresh = new URLSearchParams(old);
          if (ends && !(ends in change)) fresh.delete(ends);
          for (const [name, value] of Object.entries(change)) {
            fresh.delete(name);
            for (const text of (parts[name] as Part<unknown>).write(value)) fresh.append(name, text);
          }
          return fresh;
        },
        { replace: !back },
      ),
    [setParams, parts, ends, back],
  );
  return [useMemo(() => readAddress(parts, params), [parts, params]), put];
}
