import { useState, type ComponentProps, type ReactNode } from "react";
import { Editor, fixed, Problems } from "../../parts/editor";
import { useMay } from "../../parts/me";
import type { useDraft } from "./draft";
import { LineForm } from "./line-form";

/** The text of a definition with its mistakes, and the form of the line that the cursor stands in. */
export function TextPane({
  draft,
  title,
  below,
  onLine,
  words,
  ...editor
}: {
  draft: ReturnType<typeof useDraft>;
  title: ReactNode;
  below?: ReactNode;
} & Omit<ComponentProps<typeof Editor>, "value" | "onChange" | "problems" | "fill">) {
  const engineer = useMay("engineer");
  const [cursor, setCursor] = useState<number | null>(null);
  return (
    <section className="desk-pane" aria-label="Text">
      <h2 className="mb-1 flex flex-wrap items-baseline gap-x-1">{title}</h2>
      <Editor
        {...editor}
        fill
        words={words}
        value={draft.text}
        onChange={draft.setText}
        problems={draft.problems}
        onLine={(line) => {
          onLine?.(line);
          setCursor(line);
        }}
      />
      {below}
      <div className="desk-scroll max-h-24 shrink-0">
        <Problems problems={draft.problems} onFix={(p) => draft.setText(fixed(draft.text, p))} />
      </div>
      {engineer && <LineForm text={draft.text} line={cursor} words={words} setText={draft.setText} />}
    </section>
  );
}
