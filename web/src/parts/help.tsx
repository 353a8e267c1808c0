import { named, useAddress } from "./address";

const ADDRESS = { help: named };

/** The word that is explained beside the screen; it stands in the URL. Null closes it. */
export function useHelp(): [string | null, (word: string | null) => void] {
  const [{ help }, put] = useAddress(ADDRESS, { back: true });
  return [help, (word) => put({ help: word })];
}
