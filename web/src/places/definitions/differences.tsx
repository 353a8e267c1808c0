import type { Schemas } from "../../api/client";
import { exactly } from "../../parts/basics";
import { unitOf } from "../../parts/units";

/** Field by field: how many values are others than before, and how far they lie from them. */
export function Differences({ fields }: { fields: Schemas["TrialField"][] }) {
  return (
    <table className="mt-3 max-w-3xl" aria-label="Values that differ">
      <thead>
        <tr className="text-left text-[12.5px] text-second">
          <th className="pr-6 font-normal">field</th>
          <th className="pr-6 text-right font-normal">differ</th>
          <th className="pr-6 text-right font-normal">of</th>
          <th className="pr-6 text-right font-normal">half differ by</th>
          <th className="font-normal">new value less old one</th>
        </tr>
      </thead>
      <tbody>
        {fields.slice(0, 40).map((f) => (
          <tr key={f.field} className="border-t border-line">
            <td className="pr-6">{f.field}</td>
            <td className="pr-6 text-right">
              <b>{(f.differ ?? 0).toLocaleString("en")}</b>
            </td>
            <td className="pr-6 text-right">{(f.values + f.missing).toLocaleString("en")}</td>
            <td className="pr-6 text-right">
              {f.distribution ? (
                <>
                  {exactly(f.distribution.middle)} <span className="unit">{unitOf(f.unit)}</span>
                </>
              ) : (
                f.state
              )}
            </td>
            <td>{f.distribution && <Spread {...f.distribution} unit={f.unit} />}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Spread({ low, high, counts, unit }: Schemas["Distribution"] & { unit: string | null }) {
  const top = Math.max(...counts, 1);
  return (
    <span className="inline-flex items-end gap-2 text-[12px] text-second">
      {exactly(low)}
      <svg
        width={counts.length * 8}
        height={22}
        role="img"
        aria-label={`from ${exactly(low)} to ${exactly(high)} ${unitOf(unit)}`}
      >
        {counts.map((n, i) => (
          <rect
            key={i}
            x={i * 8}
            width={7}
            y={22 - Math.max((n / top) * 21, n ? 1.5 : 0)}
            height={22}
            fill="var(--ink)"
          />
        ))}
      </svg>
      {exactly(high)} {unitOf(unit)}
    </span>
  );
}
