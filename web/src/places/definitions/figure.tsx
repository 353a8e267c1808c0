export const Figure = ({ n, word, strong = false }: { n: number; word: string; strong?: boolean }) => (
  <div className="flex max-w-80 items-baseline gap-1.5">
    <div className={`text-[17px] ${strong ? "font-bold" : "font-semibold"}`}>{n.toLocaleString("en")}</div>
    <div className="text-[12.5px] leading-tight text-second">{word}</div>
  </div>
);
