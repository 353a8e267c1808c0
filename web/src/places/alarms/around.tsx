import { useQuery } from "@tanstack/react-query";
import { Chart } from "../../parts/chart";
import { amount, titled, unitOf } from "../../parts/units";
import type { Alarm } from "./acts";
import { ofAround } from "./queries";

const HOUR = 3600;

/** The curve around an alarm, with its limit and when it stood. */
export default function Around({ alarm: a, until }: { alarm: Alarm; until: Date }) {
  const raised = Date.parse(a.raised_at) / 1000;
  const lasted = Math.min(until.getTime() / 1000 - raised, 7 * 24 * HOUR);
  const margin = Math.max(lasted * 0.5, 2 * HOUR);
  const from = raised - margin;
  const to = Math.min(raised + lasted + margin, Math.max(Date.now() / 1000, raised + 60));
  const span = { from: new Date(from * 1000).toISOString(), to: new Date(to * 1000).toISOString() };
  const series = useQuery({ ...ofAround(a, span), enabled: a.device !== null && Boolean(a.field), retry: false });
  const line = series.data?.fields[0];
  if (!line || line.v.every((v) => v === null)) return null;
  return (
    <section className="mt-4" aria-label="The curve around it">
      <Chart
        label={titled(a.field ?? "")}
        unit={unitOf(line.unit)}
        line={line}
        from={from}
        to={to}
        gapS={Math.max((to - from) / 12, HOUR)}
        height={150}
        limits={typeof a.limit === "number" ? [{ value: a.limit, word: `limit ${amount(a.limit, a.unit)}` }] : []}
        alarms={[{ from: raised, to: raised + lasted, priority: a.priority, open: !a.cleared_at }]}
      />
    </section>
  );
}
