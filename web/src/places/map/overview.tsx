import type { ReactNode } from "react";
import { useChosen } from "../../parts/chosen";
import { useKeys } from "../../parts/keys";
import { Key, PriorityMark, StateMark } from "../../parts/marks";
import { counted } from "../../parts/words";
import type { Fence } from "./chart";
import type { MapDevice } from "./marks-layer";
import { type Feature, shapeOf, shapeWord, sizeWord } from "./shape";

const RANK = ["critical", "high", "medium", "low"];
const MOST = 40;

type Line = { key: string; what: "fence" | "alarm" | "away"; go: () => void; cells: ReactNode };

/** What is on the map, in words: fences, devices in alarm, devices far from home; walked by keys. */
export function Overview({
  devices,
  fences,
  choose,
  chooseFence,
}: {
  devices: MapDevice[];
  fences: Fence[];
  choose: (device: string) => void;
  chooseFence: (id: number) => void;
}) {
  const alarmed = devices
    .filter((d) => d.priority)
    .sort((a, b) => RANK.indexOf(a.priority!) - RANK.indexOf(b.priority!) || Number(a.taken) - Number(b.taken));
  const away = devices
    .filter((d) => (d.away_m ?? 0) > 25 && d.type !== "work_boat")
    .sort((a, b) => (b.away_m ?? 0) - (a.away_m ?? 0));
  const device = (d: MapDevice, what: "alarm" | "away", right: ReactNode): Line => ({
    key: `${what} ${d.name}`,
    what,
    go: () => choose(d.name),
    cells: (
      <>
        {d.priority && what === "alarm" ? (
          <PriorityMark priority={d.priority} taken={d.taken} size={12} />
        ) : (
          <StateMark state={d.state} size={12} />
        )}
        <span className="truncate font-semibold">{d.title}</span>
        <span className="ml-auto shrink-0 text-second">{right}</span>
      </>
    ),
  });
  const lines: Line[] = [
    ...fences.map((f): Line => ({
      key: `fence ${f.id}`,
      what: "fence",
      go: () => chooseFence(f.id),
      cells: (
        <>
          <span className="truncate font-semibold" title={shapeWord(shapeOf(f.feature as Feature))}>
            {f.name}
          </span>
          <span className="ml-auto shrink-0 text-second">
            {f.used_by.length ? counted(f.used_by.length, "condition") : "not used"} · {sizeWord(f.area_m2)}
          </span>
        </>
      ),
    })),
    ...alarmed.slice(0, MOST).map((d) => device(d, "alarm", d.taken ? d.priority : `${d.priority}, not taken`)),
    ...away.slice(0, MOST).map((d) => device(d, "away", `${Math.round(d.away_m ?? 0)} m`)),
  ];
  const chosen = useChosen(lines, (l) => l.key, "places");
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    Enter: () => chosen.current?.go(),
  });
  const part = (what: Line["what"], title: string, empty: ReactNode) => (
    <>
      <h2 className="mt-3 mb-1 first:mt-0">{title}</h2>
      {lines.some((l) => l.what === what) ? (
        <div role="grid" aria-label={title} className="rows">
          {lines
            .filter((l) => l.what === what)
            .map((l) => {
              const own = chosen.row(l);
              return (
                <div
                  key={l.key}
                  {...own}
                  className={`row-line px-2 ${own["aria-selected"] ? "is-selected" : ""}`}
                  onClick={l.go}
                >
                  <span role="gridcell" className="flex min-h-8 cursor-pointer items-center gap-2">
                    {l.cells}
                  </span>
                </div>
              );
            })}
        </div>
      ) : (
        <p className="text-second">{empty}</p>
      )}
    </>
  );
  return (
    <>
      {part("fence", "Fences", "None yet. Draw one: conditions speak of it by its name.")}
      {part("alarm", `In alarm${alarmed.length > MOST ? ` · ${MOST} of ${alarmed.length}` : ""}`, "None.")}
      {part("away", "Away from home", "Every device is within 25 m of where it belongs.")}
      <p className="keys mt-2 text-[12.5px] text-second">
        <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open
      </p>
    </>
  );
}
