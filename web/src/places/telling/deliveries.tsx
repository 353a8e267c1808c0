import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import { ofDeliveries } from "../../api/queries";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { look } from "../../parts/look";
import { useKept } from "../../parts/lookback-state";
import { PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Pages } from "../../parts/pages";
import { Cell } from "../../parts/table";

const COLUMNS = look(
  "row-line grid grid-cols-[20px_minmax(0,1fr)_120px] items-center gap-3",
  "md:grid-cols-[60px_20px_minmax(0,1fr)_220px_240px_90px]",
);
const WORDS: Record<string, string> = { expired: "not delivered" };

/** What was told and what waits, the newest first; what was given up can be sent again. */
export function Deliveries() {
  const operator = useMay("operator");
  const client = useQueryClient();
  const kept = useKept();
  const [state, setState] = useState("");
  const [offset, setOffset] = useState(0);
  const found = useQuery({
    ...ofDeliveries({ limit: 60, offset, state }),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
  const again = useMutation({
    mutationFn: (deliveries: number[]) => got(api.POST("/api/v1/deliveries/again", { body: { deliveries } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["deliveries"] }),
  });
  if (found.isPending) return <Waiting what="the deliveries" />;
  if (!found.data) return <Trouble error={found.error} retry={() => void found.refetch()} />;
  const rows = found.data.results;
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <Pick
          label="State"
          value={state}
          options={[
            ["", "all of them"],
            ["waiting", "waiting"],
            ["delivered", "delivered"],
            ["expired", "not delivered"],
            ["not needed", "not needed"],
          ]}
          onChange={(v) => {
            setState(v);
            setOffset(0);
          }}
        />
        {operator && found.data.undelivered > 0 && (
          <button type="button" className="button" disabled={again.isPending} onClick={() => again.mutate([])}>
            Send all {found.data.undelivered} again that were not delivered
          </button>
        )}
      </div>
      <Trouble error={again.error} />
      {rows.length === 0 && (
        <Empty title="Nothing of that.">What alarms give to tell stands here, each with what became of it.</Empty>
      )}
      <div role="table" aria-label="Deliveries" className="rows">
        {rows.map((d) => (
          <div role="row" key={d.id} className={COLUMNS}>
            <Cell look="hidden text-second md:block">{d.id}</Cell>
            <Cell>
              <PriorityMark priority={d.priority} size={12} />
            </Cell>
            <Cell look="truncate">
              <b>{d.what}</b>{" "}
              <Link className="hover:underline" to={kept("/alarms", { alarm: String(d.alarm) })}>
                {d.text}
              </Link>
            </Cell>
            <Cell look="hidden min-w-0 text-second md:block">
              <div className="truncate">
                {d.contact ?? "?"}
                {d.step > 0 && `, step ${d.step + 1}`}
              </div>
              <div className="truncate text-[12.5px]">
                {d.outlet}
                {d.to && `: ${d.to}`}
              </div>
            </Cell>
            <Cell look="min-w-0">
              <div className={d.state === "expired" ? "font-bold" : ""}>
                {WORDS[d.state] ?? d.state}{" "}
                {d.state === "delivered" && d.sent_at ? (
                  <At at={d.sent_at} />
                ) : d.state === "waiting" ? (
                  <>
                    until <At at={d.next_at} />
                  </>
                ) : null}
              </div>
              <div className="truncate text-[12.5px] text-second" title={d.why}>
                {d.why || (d.took_ms !== null ? `in ${d.took_ms} ms` : "")}
              </div>
            </Cell>
            <Cell look="hidden text-right md:block">
              {operator && (d.state === "expired" || (d.state === "waiting" && d.tries > 0)) && (
                <button type="button" className="link" onClick={() => again.mutate([d.id])}>
                  send again
                </button>
              )}
            </Cell>
          </div>
        ))}
      </div>
      {found.data.count > 60 && (
        <p className="mt-2 flex justify-end gap-2">
          <Pages offset={offset} size={60} count={found.data.count} go={setOffset} words={["Newer", "Older"]} />
        </p>
      )}
    </>
  );
}
