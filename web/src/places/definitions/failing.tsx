import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, got } from "../../api/client";
import { At, Trouble } from "../../parts/basics";
import { spanWord, useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";

const SHOWN = 6;

/** What the decoder refuses in the lookback, by reason; each opens its last message here. */
export function Failing({ id }: { id: number }) {
  const lookback = useLookback();
  const [params, setParams] = useSearchParams();
  const found = useQuery({
    queryKey: ["failing", id, ...lookback.key],
    queryFn: ({ signal }) =>
      got(
        api.GET("/api/v1/definitions/{ident}/failing", {
          signal,
          params: { path: { ident: id }, query: lookback.query() },
        }),
      ),
    refetchInterval: lookback.live ? 15_000 : false,
    placeholderData: (old) => old,
  });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data?.messages) return null;
  return (
    <details aria-label="Refused messages" role="group" className="mb-2 border-l-3 border-ink bg-raised px-4 py-1">
      <summary className="min-h-6 cursor-pointer text-[12.5px] text-second">
        <b className="text-ink">
          {counted(found.data.messages, "message")} of {counted(found.data.devices, "device")} refused
        </b>{" "}
        · {lookback.live ? `last ${spanWord(lookback.spanS)}` : "in the lookback"}
        {found.data.reasons[0] && `, most often ${found.data.reasons[0].code}`}
      </summary>
      <ul>
        {found.data.reasons.slice(0, SHOWN).map((r) => (
          <li
            key={`${r.code} ${r.reason} ${r.version}`}
            className="flex min-h-7 flex-wrap items-center gap-x-3 text-[13px]"
          >
            <b className="w-14 text-right">{r.messages.toLocaleString("en")}</b>
            <span>
              {r.code}: {r.reason}
            </span>
            <span className="text-second">
              {counted(r.devices, "device")}, last <At at={r.last_at} />
              {r.version !== null && `, version ${r.version}`}
              {r.line > 0 && `, line ${r.line}`}
            </span>
            <button
              type="button"
              className="link ml-auto"
              aria-pressed={params.get("message") === r.example}
              onClick={() =>
                setParams(
                  (old) => {
                    const fresh = new URLSearchParams(old);
                    fresh.set("message", r.example);
                    fresh.set("outcome", "refused");
                    return fresh;
                  },
                  { replace: true },
                )
              }
            >
              open the last one
            </button>
          </li>
        ))}
      </ul>
      {found.data.reasons.length > SHOWN && (
        <p className="text-[12.5px] text-second">and {found.data.reasons.length - SHOWN} more reasons</p>
      )}
    </details>
  );
}
