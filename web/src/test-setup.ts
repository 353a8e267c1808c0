import "@testing-library/jest-dom/vitest";
import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 8000 }); // a busy machine is no failure

// Whatever is written to the console is something that nobody has looked at: the test that causes it fails.
const said: string[] = [];
for (const level of ["error", "warn"] as const)
  console[level] = (...words: unknown[]) => void said.push(`console.${level}: ${words.map(String).join(" ")}`);

afterEach(() => {
  const found = said.splice(0);
  if (found.length) throw new Error(found.join("\n"));
});
