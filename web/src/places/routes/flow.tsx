import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { Trouble, Waiting } from "../../parts/basics";
import { useLookback } from "../../parts/lookback-state";
import { flowLayout, type Band } from "./layout";
import { ofFlow } from "./queries";

type Flow = Schemas["FlowOut"];
const WIDE = 286;
const TALL = 470;

/** Where readings go: from types through routes to outlets or out of the stream; pressing one filters. */
export function FlowPicture({ chosen, choose }: { chosen: string; choose: (node: string) => void }) {
  const lookback = useLookback();
  const flow = useQuery(ofFlow(lookback));
  return (
    <section aria-label="Where readings go" className="min-w-0">
      <h2 className="mb-2">
        Where readings go <span>· press to filter</span>
      </h2>
      <Trouble error={flow.error} retry={() => void flow.refetch()} />
      {flow.isPending && <Waiting what="the flow" />}
      {flow.data && <Picture flow={flow.data} chosen={chosen} choose={choose} />}
    </section>
  );
}

function Picture({ flow, chosen, choose }: { flow: Flow; chosen: string; choose: (node: string) => void }) {
  const { boxes, bands } = flowLayout(flow, WIDE, TALL);
  if (boxes.length === 0) return <p className="text-second">Nothing arrived in the lookback.</p>;
  const dark = bands.some((band) => band.blocked); // words stand out of what is dark
  const lit = (band: Band) => !chosen || band.source === chosen || band.target === chosen;
  return (
    <>
      <svg viewBox={`0 0 ${WIDE} ${TALL}`} className="w-full max-w-[340px]" role="group" aria-label="Flow of readings">
        {bands.map((band) => (
          <path
            key={`${band.source} ${band.target}`}
            d={band.path}
            fill={band.blocked ? "var(--ink)" : "var(--quiet)"}
            opacity={lit(band) ? 0.85 : 0.25}
          >
            <title>{`${band.words}: ${band.count.toLocaleString("en")}`}</title>
          </path>
        ))}
        {boxes.map((box) => (
          <g
            key={box.id}
            role="button"
            tabIndex={0}
            aria-pressed={chosen === box.id}
            aria-label={`${box.title}, ${box.count.toLocaleString("en")}${box.blocked ? ", blocked" : ""}`}
            className="flow-box"
            onClick={() => choose(chosen === box.id ? "" : box.id)}
            onKeyDown={(e) => {
              if (e.key !== "Enter" && e.key !== " ") return;
              e.preventDefault();
              choose(chosen === box.id ? "" : box.id);
            }}
          >
            <rect x={box.x} y={box.y} width={5} height={box.height} fill="var(--ink)" />
            <rect
              x={box.end ? box.x - 92 : box.x}
              y={box.y - 5}
              width={97}
              height={box.height + 10}
              fill="transparent"
            />
            <text
              x={box.end ? box.x - 5 : box.x + 9}
              y={box.y + box.height / 2 + 4}
              textAnchor={box.end ? "end" : "start"}
              fontSize="11"
              fontWeight={chosen === box.id ? 800 : 600}
              fill="var(--ink)"
              stroke={dark ? "var(--paper)" : "none"}
              strokeWidth="3"
              strokeLinejoin="round"
              paintOrder="stroke"
            >
              {box.short}
              {box.blocked ? ", blocked" : ""}
            </text>
          </g>
        ))}
      </svg>
      {flow.unrouted.length > 0 && (
        <p className="mt-1 text-[12.5px] text-second">
          No route is on {flow.unrouted.slice(0, 4).join(", ")}
          {flow.unrouted.length > 4 ? ` and ${flow.unrouted.length - 4} more` : ""}: stored as they come.
        </p>
      )}
    </>
  );
}
