/** Which rows of a list stand here, and the way to those before and after. `size`: rows a page. */
export function Pages({
  offset,
  size,
  count,
  go,
  words = ["Before", "After"],
}: {
  offset: number;
  size: number;
  count: number;
  go: (offset: number) => void;
  words?: [string, string];
}) {
  return (
    <>
      <span>
        {count === 0 ? "none" : `${offset + 1} to ${Math.min(offset + size, count)} of ${count.toLocaleString("en")}`}
      </span>
      <button type="button" className="button" disabled={offset === 0} onClick={() => go(Math.max(0, offset - size))}>
        {words[0]}
      </button>
      <button type="button" className="button" disabled={offset + size >= count} onClick={() => go(offset + size)}>
        {words[1]}
      </button>
    </>
  );
}
