import { Trouble } from "../../parts/basics";
import type { useDraft } from "./draft";
import { Changes } from "./versions";

/** Somebody else changed the draft, or published, meanwhile: both texts are there, and one is chosen. */
export function Overtaken({ draft }: { draft: ReturnType<typeof useDraft> }) {
  const { overtaken } = draft;
  if (!overtaken) return null;
  return (
    <section aria-label="Changed meanwhile" className="my-2">
      <Trouble error={overtaken.sentence} />
      <p className="mt-2">
        From their text to yours: <span className="text-second">what you have that they have not stands with a +</span>
      </p>
      <Changes from={overtaken.text} to={draft.text} />
      <div className="mt-2 flex flex-wrap gap-2">
        <button type="button" className="button" onClick={overtaken.keepMine}>
          Keep mine
        </button>
        <button type="button" className="button" onClick={overtaken.takeTheirs}>
          Take theirs
        </button>
        <span className="self-center text-[12.5px] text-second">
          Until then nothing is saved or published; your text, below, can also be changed by hand.
        </span>
      </div>
    </section>
  );
}
