import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Trouble } from "../../parts/basics";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { clockWords, length, percent, spent } from "./figures";
import { ofHealth } from "./queries";

/** How a device has been over the lookback; each figure opens what it is made of. */
export function DeviceHealth({ name }: { name: string }) {
  const lookback = useLookback();
  const kept = useKept();
  const found = useQuery(ofHealth(lookback, name));
  const one = found.data?.results[0];
  if (found.error) return <Trouble error={found.error} />;
  if (!one) return null;
  const arrivals = kept("/arrivals", { device: name });
  const expected = one.expected === null ? "no cadence is known" : `${Math.round(one.expected)} expected`;
  const rows: [string, string, string, string][] = [
    ["Arrived", percent(one.availability), `${one.messages} messages, ${expected}`, arrivals],
    ["Decoded", percent(one.decoded), "of the messages", kept("/arrivals", { device: name, outcome: "refused" })],
    ["Complete", percent(one.complete), "of the values that it should tell", arrivals],
    ["Silent or overdue", percent((spent(one, "silent") ?? 0) + (spent(one, "overdue") ?? 0)), "of the time", arrivals],
    ["In alarm", length(one.alarm_s), "in all", kept("/alarms", { show: "all", q: name })],
  ];
  if (one.delay_s !== null)
    rows.push(
      ["Delay", length(one.delay_s), `until it arrives, at most ${length(one.delay_max_s)}`, arrivals],
      ["Clock", clockWords(one.clock_s), "by its quickest messages", arrivals],
    );
  return (
    <section className="mb-5">
      <h2 className="mb-1">
        Health <span>· {lookback.live ? `last ${spanWord(lookback.spanS)}` : spanWord(lookback.spanS)}</span>{" "}
        <Link className="link ml-2 font-normal text-second" to={kept("/help/health")}>
          how it is counted
        </Link>
      </h2>
      <table className="w-full text-[13px]" aria-label="Health">
        <tbody>
          {rows.map(([word, value, about, to]) => (
            <tr key={word} className="border-t border-line">
              <th className="py-0.5 pl-2 text-left font-normal whitespace-nowrap">{word}</th>
              <td className="px-2 text-right font-semibold whitespace-nowrap">
                <Link className="inline-block min-h-6 leading-6 hover:underline" to={to}>
                  {value}
                </Link>
              </td>
              <td className="text-[12.5px] text-second">{about}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
