import { useSearchParams } from "react-router";

/** Opens the explanation of a word beside the screen; it stands in the URL. Null closes it. */
export function useHelp() {
  const [, setParams] = useSearchParams();
  return (word: string | null) =>
    setParams((old) => {
      const fresh = new URLSearchParams(old);
      if (word === null) fresh.delete("help");
      else fresh.set("help", word);
      return fresh;
    });
}
