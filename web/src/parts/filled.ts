import { useState } from "react";

/** What somebody writes over a record: filled from it, and filled again when it changes while nothing of one's own is
 * written; else one's own text stays, and saving is asked for with the revision it was written over. */
export function useFilled<Kept extends { revision: number }, Draft>(
  kept: Kept | null,
  draftOf: (kept: Kept | null) => Draft,
) {
  const [draft, setDraft] = useState(() => draftOf(kept));
  const [seen, setSeen] = useState(kept); // the state that the draft was filled from
  const fill = (from: Kept | null) => {
    setDraft(draftOf(from));
    setSeen(from);
  };
  const changed = JSON.stringify(draft) !== JSON.stringify(draftOf(seen));
  if (kept && kept.revision > (seen?.revision ?? -1) && !changed) fill(kept);
  return { draft, setDraft, fill, changed, over: seen?.revision ?? 0, keepOver: setSeen };
}
