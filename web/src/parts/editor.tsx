import { autocompletion, completionKeymap, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { HighlightStyle, indentUnit, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { lintKeymap, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState, RangeSetBuilder, StateEffect, StateField, type Extension } from "@codemirror/state";
import {
  Decoration,
  type DecorationSet,
  EditorView,
  keymap,
  lineNumbers,
  highlightActiveLine,
  hoverTooltip,
  ViewPlugin,
  type ViewUpdate,
} from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Schemas } from "../api/client";

export type Problem = Schemas["ProblemOut"];
export type Words = {
  functions: { name: string; words: string }[];
  checks: string[];
  units: Schemas["UnitOut"][];
  fields: string[];
  setpoints: string[];
  types: string[];
  places: { name: string; what: string }[];
};

const KEYWORDS = new Set(
  [
    "decoder condition for bytes registers coils json cbor senml text big little endian counted from byte bit",
    "bits to next same rest stream register registers coil record records tag size at column columns pattern",
    "group header topic position time since flag code number integer hex iso digits within missing raw when",
    "unless otherwise choose into by hidden required once padded decimal comma point grouped difference nearest",
    "derive reject as too short",
    "unknown layout checksum malformed stamp stamped device origin constant table length least skip repeat",
    "end lines frames times up each earlier later until apart open decode with command default low word first",
    "wrapping parameter optional one of over words default left out refused present inverted sent and or not in is",
    "if then else true false setpoint on label raise clear deadband held say",
    "priority critical high medium low each site every active season except fixes",
    "route devices drop message correct gather thin mark send stop",
  ].flatMap((line) => line.split(" ")),
);

const language = StreamLanguage.define<null>({
  startState: () => null,
  token(stream) {
    if (stream.eatSpace()) return null;
    if (stream.match(/#.*/)) return "comment";
    if (stream.match(/"(?:[^"\\]|\\.)*"?/)) return "string";
    if (stream.match(/`[^`]*`?/)) return "string";
    if (stream.match(/0x[0-9A-Fa-f]+|\d[\d.]*(e[+-]?\d+)?/i)) return "number";
    if (stream.match(/[ui]\d{1,2}\b|f(16|32|64)\b/)) return "typeName";
    const word = stream.match(/[A-Za-z_][A-Za-z0-9_]*/) as RegExpMatchArray | null;
    if (word) return KEYWORDS.has(word[0]) ? "keyword" : "variableName";
    stream.next();
    return null;
  },
});

const look = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--second)" },
  { tag: tags.comment, color: "var(--second)", fontStyle: "italic" },
  { tag: tags.string, color: "var(--ink)" },
  { tag: tags.typeName, color: "var(--ink)" },
  { tag: tags.number, color: "var(--ink)" },
  { tag: tags.variableName, color: "var(--ink)", fontWeight: "700" },
]);

const theme = EditorView.theme({
  "&": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--line)", fontSize: "13px" },
  "&.cm-focused": { outline: "2px solid var(--ink)", outlineOffset: "1px" },
  ".cm-scroller": { fontFamily: "var(--font-mono), 'Commit Mono', monospace", lineHeight: "21px", overflow: "auto" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)", borderLeftWidth: "2px" },
  ".cm-gutters": { backgroundColor: "var(--raised)", color: "var(--third)", border: "none" },
  ".cm-activeLine": { backgroundColor: "color-mix(in srgb, var(--selected) 55%, transparent)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--quiet) !important" },
  ".cm-lintRange-error": {
    backgroundImage: "none",
    textDecoration: "underline wavy var(--ink) 1.5px",
    textUnderlineOffset: "4px",
  },
  ".cm-lintRange-warning": {
    backgroundImage: "none",
    textDecoration: "underline dotted var(--ink) 1.5px",
    textUnderlineOffset: "4px",
  },
  ".cm-diagnostic": {
    fontFamily: "'Hanken Grotesk Variable', sans-serif",
    borderLeft: "3px solid var(--ink)",
    padding: "4px 10px",
  },
  ".cm-diagnosticAction": {
    backgroundColor: "var(--ink)",
    color: "var(--paper)",
    borderRadius: "3px",
    padding: "2px 8px",
  },
  ".cm-tooltip": { backgroundColor: "var(--paper)", color: "var(--ink)", border: "1px solid var(--edge)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--selected)", color: "var(--ink)" },
  ".cm-lit": { backgroundColor: "var(--selected)" },
  ".cm-untaken, .cm-untaken span": { color: "var(--third) !important", fontWeight: "400 !important" },
  ".cm-untaken.cm-lit, .cm-untaken.cm-lit span, .cm-untaken.cm-activeLine span": { color: "var(--second) !important" },
});

/** The hue of a tint without its pattern, which an edge cannot have. */
const plainTint = (tint: number) => `var(--tint-${(tint % 6) + 1})`;

const setMarks = StateEffect.define<{ lit: number | null; tints: Map<number, number>; untaken: Set<number> }>();
const marks = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(found, change) {
    let next = found.map(change.changes);
    for (const effect of change.effects) {
      if (!effect.is(setMarks)) continue;
      const all = [];
      for (let n = 1; n <= change.state.doc.lines; n += 1) {
        const tint = effect.value.tints.get(n);
        const lit = effect.value.lit === n;
        const untaken = effect.value.untaken.has(n);
        if (tint === undefined && !lit && !untaken) continue;
        const style = tint === undefined ? "" : `box-shadow: inset 4px 0 0 ${plainTint(tint)}`;
        all.push(
          Decoration.line({
            attributes: { style },
            class: `${lit ? "cm-lit" : ""} ${untaken ? "cm-untaken" : ""}`,
          }).range(change.state.doc.line(n).from),
        );
      }
      next = Decoration.set(all);
    }
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

/** Long lines go on below their first column, a little further in. */
const hanging = ViewPlugin.fromClass(
  class {
    decorations: DecorationSet;
    constructor(view: EditorView) {
      this.decorations = this.made(view);
    }
    update(change: ViewUpdate) {
      if (change.docChanged || change.viewportChanged) this.decorations = this.made(change.view);
    }
    made(view: EditorView): DecorationSet {
      const found = new RangeSetBuilder<Decoration>();
      for (const { from, to } of view.visibleRanges)
        for (let at = from; at <= to;) {
          const line = view.state.doc.lineAt(at);
          const deep = (/^ */.exec(line.text)?.[0].length ?? 0) + 2;
          const style = `padding-left: calc(${deep}ch + 8px); text-indent: -${deep}ch`;
          found.add(line.from, line.from, Decoration.line({ attributes: { style } }));
          at = line.to + 1;
        }
      return found.finish();
    }
  },
  { decorations: (plugin) => plugin.decorations },
);

function completions(words: () => Words) {
  return (context: CompletionContext) => {
    const word = context.matchBefore(/[A-Za-z_[{][A-Za-z0-9_\]}]*/);
    const w = words();
    const before = context.state.doc.lineAt(context.pos);
    const open = before.text.slice(0, context.pos - before.from).lastIndexOf('"');
    if (open >= 0 && before.text.slice(0, open).split('"').length % 2 === 1)
      return {
        from: before.from + open + 1,
        options: w.places.map(({ name, what }) => ({ label: name, type: "variable", detail: what })),
      };
    if (!word && !context.explicit) return null;
    return {
      from: word?.from ?? context.pos,
      options: [
        ...w.fields.map((label) => ({ label, type: "variable", detail: "field", boost: 3 })),
        ...w.setpoints.map((label) => ({ label, type: "variable", detail: "setpoint", boost: 2 })),
        ...w.types.map((label) => ({ label, type: "class", detail: "device type" })),
        ...w.functions.map((f) => ({ label: f.name, type: "function", detail: f.words })),
        ...w.checks.map((label) => ({ label, type: "function", detail: "check" })),
        ...w.units.map((u) => ({
          label: u.code,
          type: "constant",
          detail: [u.printed === u.code ? "unit" : u.printed, u.words.split(",")[0]].filter(Boolean).join(" · "),
        })),
        ...[...KEYWORDS].map((label) => ({ label, type: "keyword" })),
      ],
    };
  };
}

/** What lies between the common beginning and the common end: the cursor stays where it is. */
function difference(old: string, value: string) {
  let from = 0;
  while (from < old.length && from < value.length && old[from] === value[from]) from += 1;
  let end = 0;
  while (end < old.length - from && end < value.length - from && old.at(-1 - end) === value.at(-1 - end)) end += 1;
  return { from, to: old.length - end, insert: value.slice(from, value.length - end) };
}

/** The text of a definition: errors under the word, completion, lines tied to bytes by their tint. */
export function Editor({
  value,
  onChange,
  problems,
  words,
  label,
  lit,
  tints,
  untaken,
  onLine,
  readOnly = false,
  fill = false,
  goTo,
  onHelp,
  standsAt,
}: {
  value: string;
  onChange: (text: string) => void;
  problems: Problem[];
  words: Words;
  label: string;
  lit?: number | null;
  tints?: Map<number, number>;
  /** Lines that the message on show does not take. */
  untaken?: Set<number>;
  onLine?: (line: number) => void;
  readOnly?: boolean;
  /** As high as its box; else as its text, up to about half of the window. */
  fill?: boolean;
  /** A line that gets cursor and focus, each time this is another object. */
  goTo?: { line: number } | null;
  /** Asked what a word means. */
  onHelp?: (word: string) => void;
  /** Where the address that begins a line stands in the message on show. */
  standsAt?: (line: number) => string | null;
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const kept = useRef({ onChange, words, onLine, onHelp, standsAt });
  kept.current = { onChange, words, onLine, onHelp, standsAt };

  useEffect(() => {
    if (!host.current) return;
    const nonce = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "";
    const extensions: Extension[] = [
      EditorView.cspNonce.of(nonce),
      lineNumbers(),
      EditorView.lineWrapping,
      hanging,
      highlightActiveLine(),
      history(),
      indentUnit.of("  "),
      language,
      syntaxHighlighting(look),
      theme,
      marks,
      hoverTooltip((v, pos) => {
        const line = v.state.doc.lineAt(pos);
        const address = /^ *((?:next|same|byte|bytes|rest|skip)\b(?: \S+)*?)(?: {2}|$)/.exec(line.text);
        if (!address) return null;
        const from = line.from + line.text.indexOf(address[1] as string);
        const to = from + (address[1] as string).length;
        const told = pos >= from && pos <= to ? (kept.current.standsAt?.(line.number) ?? null) : null;
        if (!told) return null;
        return {
          pos: from,
          end: to,
          above: true,
          create: () => {
            const dom = document.createElement("div");
            dom.className = "px-2 py-1 text-second";
            dom.textContent = told;
            return { dom };
          },
        };
      }),
      autocompletion({ override: [completions(() => kept.current.words)], icons: false }),
      keymap.of([
        {
          key: "F1",
          run: (v) => {
            const word = v.state.wordAt(v.state.selection.main.head);
            kept.current.onHelp?.(word ? v.state.sliceDoc(word.from, word.to) : "");
            return true;
          },
        },
        ...completionKeymap,
        ...lintKeymap,
        ...historyKeymap,
        ...defaultKeymap,
        indentWithTab,
      ]),
      EditorState.readOnly.of(readOnly),
      EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "false", tabindex: "0" }),
      EditorView.updateListener.of((change) => {
        if (change.docChanged) kept.current.onChange(change.state.doc.toString());
        if (change.selectionSet || change.docChanged)
          kept.current.onLine?.(change.state.doc.lineAt(change.state.selection.main.head).number);
      }),
    ];
    const made = new EditorView({ state: EditorState.create({ doc: value, extensions }), parent: host.current });
    view.current = made;
    return () => made.destroy();
    // The editor is made once; later texts come through the effect below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label, readOnly]);

  useEffect(() => {
    const v = view.current;
    const old = v?.state.doc.toString();
    if (v && old !== undefined && old !== value) v.dispatch({ changes: difference(old, value) });
  }, [value]);

  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const doc = v.state.doc;
    const found: Diagnostic[] = problems.map((p) => {
      const line = doc.line(Math.min(Math.max(p.line, 1), doc.lines));
      const from = Math.min(line.from + p.column - 1, line.to);
      const to = Math.min(Math.max(line.from + p.end_column - 1, from + 1), Math.max(line.to, from));
      return {
        from,
        to,
        severity: p.severity === "warning" ? "warning" : "error",
        message: p.message,
        ...(p.fix
          ? {
              actions: [
                {
                  name: `Change to ${p.fix.slice(0, 40)}`,
                  apply: (target: EditorView, a: number, b: number) =>
                    target.dispatch({ changes: { from: a, to: b, insert: p.fix as string } }),
                },
              ],
            }
          : {}),
      };
    });
    v.dispatch(setDiagnostics(v.state, found));
  }, [problems, value]);

  useEffect(() => {
    view.current?.dispatch({
      effects: setMarks.of({ lit: lit ?? null, tints: tints ?? new Map(), untaken: untaken ?? new Set() }),
    });
  }, [lit, tints, untaken, value]);

  useEffect(() => {
    const v = view.current;
    if (!v || !goTo) return;
    const line = v.state.doc.line(Math.min(Math.max(goTo.line, 1), v.state.doc.lines));
    v.dispatch({ selection: { anchor: line.to }, scrollIntoView: true });
    v.focus();
  }, [goTo]);

  return (
    <div
      ref={host}
      className={fill ? "min-h-24 flex-1 [&_.cm-editor]:h-full" : "min-h-0 [&_.cm-editor]:max-h-[54vh]"}
    />
  );
}

/** Puts the errors into words below the text, with their fixes. */
export function Problems({ problems, onFix }: { problems: Problem[]; onFix?: (problem: Problem) => void }) {
  if (!problems.length) return null;
  return (
    <ul className="mt-2 grid gap-1" aria-label="Problems">
      {problems.slice(0, 6).map((p, i) => (
        <li key={i} className="flex flex-wrap items-baseline gap-x-2 border-l-3 border-ink bg-raised px-3 py-1.5">
          <b>Line {p.line}</b>
          <span>{p.message}</span>
          {p.fix && onFix && (
            <button type="button" className="link" onClick={() => onFix(p)}>
              change to {p.fix}
            </button>
          )}
        </li>
      ))}
      {problems.length > 6 && <li className="text-second">… and {problems.length - 6} more</li>}
    </ul>
  );
}

/** The text with one problem's fix in its place. */
export function fixed(text: string, p: Problem): string {
  const lines = text.split("\n");
  const line = lines[p.line - 1] ?? "";
  lines[p.line - 1] = line.slice(0, p.column - 1) + (p.fix ?? "") + line.slice(p.end_column - 1);
  return lines.join("\n");
}
