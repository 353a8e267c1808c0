import { describe, expect, it } from "vitest";

const texts: Record<string, string> = import.meta.glob(["../**/*.{ts,tsx}", "!../tests/**", "!../**/*.d.ts"], {
  query: "?raw",
  import: "default",
  eager: true,
});
const files = new Map(Object.entries(texts).map(([path, text]) => [path.slice(3), text]));

/** Where a path leads that is written in a file of some folder. */
function led(folder: string[], path: string): string {
  const at = [...folder];
  for (const part of path.split("/")) {
    if (part === "..") at.pop();
    else if (part !== ".") at.push(part);
  }
  return at.join("/");
}

/** By file: the files of the front end that it names, types and what is fetched late too. */
const named = new Map(
  [...files].map(([file, text]) => {
    const paths = [...text.matchAll(/(?:from|import\()\s*"(\.[^"]+)"/g)].map(([, path]) =>
      led(file.split("/").slice(0, -1), path as string),
    );
    return [file, paths.flatMap((path) => [`${path}.ts`, `${path}.tsx`].filter((p) => files.has(p)))];
  }),
);

function circle(from: string, way: string[] = [], done = new Set<string>()): string[] | null {
  if (way.includes(from)) return [...way.slice(way.indexOf(from)), from];
  if (done.has(from)) return null;
  for (const next of named.get(from) ?? []) {
    const found = circle(next, [...way, from], done);
    if (found) return found;
  }
  done.add(from);
  return null;
}

describe("the front end", () => {
  it("has no circles between files", () => {
    const done = new Set<string>();
    for (const file of named.keys()) expect(circle(file, [], done)).toBeNull();
  });

  it("knows of a screen only from the screens themselves, and where they are listed", () => {
    for (const [file, paths] of named)
      if (/^(api|parts|help)\//.test(file)) expect(paths.filter((path) => path.startsWith("places/"))).toEqual([]);
  });

  it("was read at all", () => expect(named.get("main.tsx")).toContain("screens.tsx"));
});
