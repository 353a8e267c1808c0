import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, got } from "../../api/client";
import { At, Trouble } from "../../parts/basics";
import { spanWord, useLookback } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Sure } from "../../parts/sure";
import { counted } from "../../parts/words";
import { ofSent } from "./queries";

/** Readings that routes send to an outlet: what waits, what was sent and lost, the last batches. */
export function OutletReadings({ id }: { id: number }) {
  const lookback = useLookback();
  const operator = useMay("operator");
  const client = useQueryClient();
  const found = useQuery({ ...ofSent(lookback, id), refetchInterval: 5_000 });
  const discard = useMutation({
    mutationFn: async () => {
      await got(api.DELETE("/api/v1/outlets/{ident}/readings", { params: { path: { ident: id } } }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["outlets"] }),
  });
  const r = found.data;
  if (!r) return <Trouble error={found.error} />;
  if (r.used_by.length === 0 && r.log.length === 0 && r.waiting === 0)
    return <p className="mt-5 text-second">No route sends readings here.</p>;
  const lost = r.lost.reduce((n, one) => n + one.readings, 0);
  return (
    <section className="mt-6" aria-label="Readings">
      <h2>
        Readings <span>· from {r.used_by.join(", ") || "no route any more"}</span>
      </h2>
      <p className="mt-1">
        <b>{counted(r.sent, "reading")}</b> sent in {spanWord(lookback.spanS)}, <b>{r.waiting.toLocaleString("en")}</b>
        {" waiting"}
        {r.oldest && (
          <>
            , the oldest since <At at={r.oldest} />
          </>
        )}
        {lost > 0 && (
          <>
            , <b>{lost.toLocaleString("en")} lost</b> ({r.lost.map((one) => one.why).join(", ")})
          </>
        )}
        .
      </p>
      <p className="text-[12.5px] text-second">
        At most {r.most.toLocaleString("en")} wait, for a day; then the oldest are given up, and counted here.
        {r.folder && (
          <>
            {" "}
            The files are in <code>{r.folder}</code>.
          </>
        )}
      </p>
      {operator && r.waiting > 0 && (
        <p className="mt-1 flex flex-wrap items-center gap-2">
          <Sure disabled={discard.isPending} act={() => discard.mutate()}>
            Give up what waits
          </Sure>
          <span className="text-second">{counted(r.waiting, "waiting reading")}; stored here all the same.</span>
        </p>
      )}
      <Trouble error={discard.error} />
      {r.log.length > 0 && (
        <ul className="rows mt-2 max-h-56 overflow-y-auto" aria-label="Last batches" tabIndex={0}>
          {r.log.map((b) => (
            <li
              key={`${b.at} ${b.last}`}
              className="row-line grid grid-cols-[84px_92px_70px_minmax(0,1fr)] items-center gap-2"
            >
              <At at={b.at} />
              <span>{counted(b.readings, "reading")}</span>
              <span className="text-right text-second">{b.took_ms} ms</span>
              <span className={`truncate ${b.good ? "text-second" : "font-bold"}`} title={b.answer}>
                {b.good ? b.answer || "taken" : `not taken: ${b.answer}`}
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
