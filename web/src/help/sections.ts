import api from "../../../docs/api.md?raw";
import guide from "../../../docs/guide.md?raw";
import health from "../../../docs/health.md?raw";
import language from "../../../docs/language.md?raw";
import operation from "../../../docs/operation.md?raw";
import recipes from "../../../docs/recipes.md?raw";
import tutorialRoutes from "../../../docs/tutorial-routes.md?raw";
import tutorial from "../../../docs/tutorial.md?raw";

export type Section = { doc: string; title: string; slug: string; level: number; text: string };

/** The documents that come with Oculum, in the order in which they are read. */
export const DOCS: [key: string, title: string, text: string][] = [
  ["guide", "Guide", guide],
  ["tutorial", "Tutorial", tutorial],
  ["tutorial-routes", "Tutorial: routes", tutorialRoutes],
  ["health", "Health", health],
  ["language", "Language", language],
  ["recipes", "Recipes", recipes],
  ["api", "API", api],
  ["operation", "Operation", operation],
];

export const slugOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, "-")
    .replace(/^-|-$/g, "");

/** A document cut at its headings; a mark of a comment inside an example is no heading. */
export function sectionsOf(doc: string, text: string): Section[] {
  const found: Section[] = [];
  let fenced = false;
  for (const line of text.split("\n")) {
    if (line.startsWith("```")) fenced = !fenced;
    const [, marks, title] = (!fenced && /^(#{1,4}) (.+)$/.exec(line)) || [];
    if (marks && title) found.push({ doc, title, slug: slugOf(title), level: marks.length, text: "" });
    else if (found.length) (found[found.length - 1] as Section).text += `${line}\n`;
  }
  return found;
}

export const SECTIONS = DOCS.flatMap(([doc, , text]) => sectionsOf(doc, text));

/** Sections that have all the words: first those whose title has them, then those that have them more often. */
export function search(text: string, sections: Section[] = SECTIONS): Section[] {
  const words = text.trim().toLowerCase().split(/\s+/).filter(Boolean);
  if (!words.length) return [];
  return sections
    .map((section) => {
      const [title, body] = [section.title.toLowerCase(), section.text.toLowerCase()];
      const has = words.every((word) => title.includes(word) || body.includes(word));
      const inTitle = words.filter((word) => title.includes(word)).length;
      const often = words.reduce((sum, word) => sum + Math.min(body.split(word).length - 1, 20), 0);
      return { section, rank: has ? inTitle * 100 + often : -1 };
    })
    .filter((row) => row.rank >= 0)
    .sort((a, b) => b.rank - a.rank)
    .map((row) => row.section);
}

/** A word as a pattern finds it: whole, none of its characters a mark of patterns. */
const wholeWord = (word: string) => `\\b${word.replace(/[.*+?^${}()|[\]\\]/g, "\\$&")}\\b`;

/** Where a word of the language is explained: the sections that have it as code, the most thorough first. */
export function explained(word: string, sections: Section[] = SECTIONS): Section[] {
  if (!word) return [];
  const whole = wholeWord(word);
  const asCode = new RegExp(`\`[^\`\\n]*${whole}[^\`\\n]*\``, "g");
  const anywhere = new RegExp(whole, "g");
  return sections
    .filter((section) => section.doc === "language")
    .map((section) => ({
      section,
      rank: 10 * (section.text.match(asCode)?.length ?? 0) + (section.text.match(anywhere)?.length ?? 0),
    }))
    .filter((row) => row.rank > 0)
    .sort((a, b) => b.rank - a.rank)
    .map((row) => row.section);
}

/** The part of a section that speaks of a word: its paragraphs and rows of tables, with the heads of these. */
export function about(word: string, section: Section): string {
  const has = new RegExp(wholeWord(word));
  const blocks: string[] = [];
  for (const block of section.text.split(/\n{2,}(?![^`]*```(?:[^`]*```[^`]*```)*[^`]*$)/)) {
    if (!has.test(block)) continue;
    const rows = block.split("\n");
    const table = rows.findIndex((row) => /^\|[\s:|-]+\|$/.test(row));
    if (table < 1) blocks.push(block);
    else
      blocks.push(
        [...rows.slice(table - 1, table + 1), ...rows.slice(table + 1).filter((r) => has.test(r))].join("\n"),
      );
  }
  return blocks.join("\n\n") || section.text;
}
