import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { count, oneOf, useAddress } from "../../parts/address";
import { Heading, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Pages } from "../../parts/pages";
import { counted } from "../../parts/words";
import { clockWords, length, percent, spent, type Figures } from "./figures";
import { ofFigures, ORDERS, ROWS, type Order } from "./queries";

const WAYS: [string, string][] = [
  ["site", "by site"],
  ["type", "by type"],
  ["gateway", "by gateway"],
  ["firmware", "by firmware"],
  ["device", "device by device"],
];
const COLUMNS: [Order | null, string, string][] = [
  ["availability", "Arrived", "messages of those that the cadence promises"],
  ["decoded", "Decoded", "of the messages"],
  ["complete", "Complete", "of the values; the others are missing with a reason"],
  ["delay", "Delay", "mean from measured to arrived"],
  ["clock", "Clock", "by the quickest messages; of several the median"],
  [null, "Silent", "of the time"],
  [null, "Undecodable", "of the time"],
  ["alarm", "In alarm", "time with an open alarm, of all devices together"],
];

const FALLING: Order[] = ["delay", "clock", "alarm"];

const cells = (f: Figures) => [
  percent(f.availability),
  percent(f.decoded),
  percent(f.complete),
  length(f.delay_s),
  clockWords(f.clock_s),
  percent(spent(f, "silent")),
  percent(spent(f, "undecodable")),
  length(f.alarm_s),
];

/** Where a row leads: the devices it is made of, or the device. */
function targetOf(by: string, key: string): [string, Record<string, string>] | null {
  if (by === "device") return [`/devices/${key}`, {}];
  if (!key) return null;
  return ["/devices", by === "firmware" ? { q: `firmware=${key}` } : { [by]: key }];
}

const ADDRESS = {
  by: oneOf(
    WAYS.map(([way]) => way),
    "site",
  ),
  order: oneOf(ORDERS, "title"),
  offset: count,
};

/** Figures of health as a table, by what devices have in common or device by device; a heading sorts, worst first. */
export default function Health() {
  const lookback = useLookback();
  const kept = useKept();
  const [{ by, order, offset }, put] = useAddress(ADDRESS, { ends: "offset" });
  const found = useQuery(ofFigures(lookback, by, order, offset));
  const head = "px-2 text-right font-normal whitespace-nowrap";
  return (
    <div>
      <Heading
        title="Health"
        about={`${lookback.live ? "last " : ""}${spanWord(lookback.spanS)}; a heading sorts, worst first`}
      >
        <Pick label="Group" value={by} options={WAYS} onChange={(value) => put({ by: value })} />
        <Link className="button" to={kept("/watch")}>
          Watch
        </Link>
      </Heading>
      <Trouble error={found.error} />
      {!found.data && !found.error && <Waiting what="the figures" />}
      {found.data && (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Health">
            <thead className="text-[12.5px] text-second">
              <tr>
                <th className="text-left font-normal" aria-sort={order === "title" ? "ascending" : undefined}>
                  <button type="button" className="link" onClick={() => put({ order: "title" })}>
                    {WAYS.find(([way]) => way === by)?.[1]
                      .replace("by ", "")
                      .replace("device device", "device")}
                  </button>
                </th>
                {COLUMNS.map(([key, word, about]) => (
                  <th
                    key={word}
                    className={head}
                    title={about}
                    aria-sort={key !== order ? undefined : FALLING.includes(order) ? "descending" : "ascending"}
                  >
                    {key ? (
                      <button
                        type="button"
                        className={`link ${key === order ? "font-bold text-ink" : ""}`}
                        onClick={() => put({ order: key })}
                      >
                        {word}
                      </button>
                    ) : (
                      word
                    )}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              <tr className="border-t border-line font-semibold">
                <th className="py-1 text-left">all {counted(found.data.whole.devices, "device")}</th>
                {cells(found.data.whole).map((cell, i) => (
                  <td key={COLUMNS[i]?.[1]} className="px-2 text-right whitespace-nowrap">
                    {cell}
                  </td>
                ))}
              </tr>
              {found.data.results.map((row) => {
                const target = targetOf(by, row.key);
                return (
                  <tr key={row.key} className="border-t border-line hover:bg-raised">
                    <th className="py-1 text-left font-normal">
                      {target ? (
                        <Link className="hover:underline" to={kept(...target)}>
                          {row.title}
                        </Link>
                      ) : (
                        row.title
                      )}
                      {by !== "device" && (
                        <span className="text-[12.5px] text-second"> · {counted(row.devices, "device")}</span>
                      )}
                    </th>
                    {cells(row).map((cell, i) => (
                      <td key={COLUMNS[i]?.[1]} className="px-2 text-right whitespace-nowrap">
                        {cell}
                      </td>
                    ))}
                  </tr>
                );
              })}
            </tbody>
          </table>
          {found.data.count > ROWS && (
            <div className="mt-2 flex items-center justify-end gap-3">
              <Pages offset={offset} size={ROWS} count={found.data.count} go={(next) => put({ offset: next })} />
            </div>
          )}
        </div>
      )}
    </div>
  );
}
