import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { Link } from "react-router";
import { ofLanguage } from "../api/queries";
import { Sheet } from "../parts/dialog";
import { useHelp } from "../parts/help";
import { useKept } from "../parts/lookback-state";
import { Key } from "../parts/marks";
import { about, explained } from "./sections";
import HelpText from "./text";

const MOST = 2;

/** What a word of the language means, beside the text in which it stands. */
export default function HelpSheet({ word }: { word: string }) {
  const [, help] = useHelp();
  const kept = useKept();
  const language = useQuery(ofLanguage());
  const found = explained(word);
  const known = language.data?.functions.find((f) => f.name === word);
  const unit = language.data?.units.find((u) => u.code === word);
  return (
    <Dialog.Root open onOpenChange={(open) => !open && help(null)}>
      <Sheet width="w-[min(520px,100vw)]">
        <div className="mb-3 flex items-start gap-3">
          <Dialog.Title className="text-[17px] font-bold">
            {word ? <code className="font-mono">{word}</code> : "The language"}
          </Dialog.Title>
          <Dialog.Close className="button ml-auto">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </div>
        {known && <p className="mb-3">{known.words}</p>}
        {unit?.words && (
          <p className="mb-3">
            a unit, printed <b>{unit.printed}</b>: {unit.words}
          </p>
        )}
        {found.slice(0, MOST).map((section) => (
          <section key={section.slug} className="mb-5">
            <h2 className="mb-1">
              <Link className="link" to={`${kept("/help/language")}#${section.slug}`}>
                {section.title}
              </Link>
            </h2>
            <HelpText text={about(word, section)} />
          </section>
        ))}
        {!found.length && !known && !unit && (
          <p className="mb-3">
            {word
              ? "The language does not know this word: it is a name of your own, or a value."
              : "Put the cursor on a word and press F1: it is explained here."}
          </p>
        )}
        <Link className="link" to={kept("/help/language")}>
          The whole language
        </Link>
      </Sheet>
    </Dialog.Root>
  );
}
