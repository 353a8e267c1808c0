import type { Schemas } from "../../api/client";
import { At } from "../../parts/basics";
import { counted } from "../../parts/words";

const MOST = 30;

/** Who is inside an area, and who went in and came out. */
export function Crossings({
  found,
  choose,
}: {
  found: Schemas["CrossingsOut"];
  choose: ((device: string) => void) | null;
}) {
  const name = (one: { device: string; title: string }) =>
    choose ? (
      <button type="button" className="link font-semibold" onClick={() => choose(one.device)}>
        {one.title}
      </button>
    ) : (
      <b>{one.title}</b>
    );
  return (
    <>
      <h2 className="mt-3 mb-1">
        Inside at the end{found.inside.length > MOST && ` · ${MOST} of ${found.inside.length}`}
      </h2>
      <ul className="rows">
        {found.inside.slice(0, MOST).map((one) => (
          <li key={one.device} className="row-line flex items-center gap-2 px-1">
            {name(one)}
            <span className="ml-auto text-second">
              since <At at={one.since} />
            </span>
          </li>
        ))}
        {found.inside.length === 0 && <li className="row-line px-1 text-second">nobody</li>}
      </ul>
      <h2 className="mt-3 mb-1">
        Crossings in the lookback{found.count > MOST && ` · the last ${MOST} of ${found.count}`}
      </h2>
      <ul className="rows">
        {found.crossings.slice(0, MOST).map((one, n) => (
          <li key={n} className="row-line flex items-center gap-2 px-1">
            <At at={one.at} />
            {name(one)}
            <span className="ml-auto text-second">{one.what}</span>
          </li>
        ))}
        {found.count === 0 && (
          <li className="row-line px-1 text-second">none in {counted(found.positions, "position")}</li>
        )}
      </ul>
    </>
  );
}
