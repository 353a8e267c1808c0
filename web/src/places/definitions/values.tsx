import type { Schemas } from "../../api/client";
import { precisely, Trouble, unitOf } from "../../parts/basics";
import { tintStyle } from "../../parts/bytes";

export function Verdict({
  decoded,
  error,
  blocked,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  error: unknown;
  blocked: boolean;
  setLine: (line: number) => void;
}) {
  if (blocked) return <p className="text-second">Values wait until the text is right.</p>;
  if (error) return <Trouble error={error} />;
  if (!decoded?.error) return null;
  const e = decoded.error;
  return (
    <div role="alert" className="my-1 border-l-3 border-ink bg-raised px-3 py-1.5">
      <b>Refused, {e.code}:</b> {e.message}{" "}
      {e.line > 0 && (
        <button type="button" className="link" onClick={() => setLine(e.line)}>
          line {e.line}
        </button>
      )}
    </div>
  );
}

export function Values({
  decoded,
  marks,
  tintOf,
  line,
  setLine,
}: {
  decoded: Schemas["DecodeOut"] | undefined;
  marks: Schemas["MarkOut"][];
  tintOf: Map<number, number>;
  line: number | null;
  setLine: (line: number) => void;
}) {
  if (!decoded?.values.length) return null;
  return (
    <>
      <h2 className="mt-2 mb-1">
        What it says <span>· value, unit, raw</span>
      </h2>
      <ul className="rows" aria-label="Values">
        {decoded.values.slice(0, 80).map((v, i) => {
          const turn = decoded.values.slice(0, i).filter((x) => x.field === v.field).length;
          const mark =
            marks.find((m) => m.field === v.field && m.turn === turn) ?? marks.find((m) => m.field === v.field);
          const on = mark !== undefined && mark.line === line;
          return (
            <li key={i}>
              <button
                type="button"
                className={`row-line !min-h-7 grid w-full grid-cols-[8px_minmax(0,1fr)_minmax(0,1.1fr)_minmax(0,90px)] items-center gap-2 text-left ${on ? "is-selected" : ""}`}
                onMouseEnter={() => mark && setLine(mark.line)}
                onFocus={() => mark && setLine(mark.line)}
              >
                <span className="h-5" style={mark ? tintStyle(tintOf.get(mark.line) ?? 0) : undefined} />
                <span className="truncate">{v.field}</span>
                <span className="truncate">
                  {v.missing ? <span>missing: {v.missing}</span> : <b>{v.text ?? precisely(v.value, v)}</b>}{" "}
                  <span className="unit">{v.missing ? "" : unitOf(v.unit)}</span>
                </span>
                <span className="truncate text-right font-mono text-[12px] text-second">
                  {mark?.raw?.map(String).join(", ") ?? (mark?.paths ?? []).join(", ")}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
    </>
  );
}
