import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import { At, Trouble } from "../../parts/basics";
import { useKept, useLookback } from "../../parts/lookback-state";
import { Sure } from "../../parts/sure";
import type { Fence } from "./chart";
import { Crossings } from "./crossings";
import { ofCrossings, ofFenceVersions } from "./queries";
import { type Feature, shapeOf, shapeWord, sizeWord } from "./shape";

/** The chosen fence: what it is, who speaks of it, who is inside, who crossed it, and what it was. */
export function FencePanel({
  fence,
  engineer,
  edit,
  close,
  choose,
}: {
  fence: Fence;
  engineer: boolean;
  edit: (feature: Feature) => void;
  close: () => void;
  choose: (device: string) => void;
}) {
  const kept = useKept();
  const lookback = useLookback();
  const client = useQueryClient();
  const feature = fence.feature as Feature;
  const found = useQuery(ofCrossings(feature, lookback));
  const versions = useQuery(ofFenceVersions(fence.id));
  const remove = useMutation({
    mutationFn: () =>
      got(
        api.DELETE("/api/v1/fences/{ident}", {
          params: { path: { ident: fence.id }, header: { "If-Match": `"${fence.revision}"` } },
        }),
      ),
    onSuccess: () => {
      close();
      return client.invalidateQueries({ queryKey: ["fences"] });
    },
  });
  return (
    <>
      <h2 className="mb-1 flex items-baseline gap-2 !text-[15px] !text-ink">
        {fence.name}
        <button type="button" className="link ml-auto text-[12.5px] font-normal" onClick={close}>
          close
        </button>
      </h2>
      <p>
        {shapeWord(shapeOf(feature))}, {sizeWord(fence.area_m2)}.{" "}
        {fence.used_by.length ? (
          <>
            Used by{" "}
            {fence.used_by.map((one, n) => (
              <span key={one.id}>
                {n > 0 && ", "}
                <Link className="link" to={kept(`/conditions/${one.id}`)}>
                  {one.name}
                </Link>
              </span>
            ))}
            .
          </>
        ) : (
          <>No condition speaks of it.</>
        )}
      </p>
      {engineer && (
        <p className="mt-2 flex flex-wrap gap-2">
          <button type="button" className="button" onClick={() => edit(feature)}>
            Change it
          </button>
          {fence.used_by.length === 0 && (
            <Sure disabled={remove.isPending} act={() => remove.mutate()}>
              Delete it
            </Sure>
          )}
        </p>
      )}
      <Trouble error={remove.error ?? found.error} />
      {found.data ? <Crossings found={found.data} choose={choose} /> : <p className="text-second">Counting …</p>}
      {(versions.data?.length ?? 0) > 1 && (
        <>
          <h2 className="mt-3 mb-1">What it was</h2>
          <ul className="rows">
            {versions.data?.map((v) => (
              <li key={v.number} className="row-line flex items-center gap-2 px-1">
                <b>{v.number}</b>
                <span className="text-second">
                  {v.at ? <At at={v.at} /> : "from the beginning"}
                  {v.who && ` by ${v.who}`}
                </span>
                {engineer && v.number !== versions.data[0]?.number && (
                  <button type="button" className="link ml-auto" onClick={() => edit(v.feature as Feature)}>
                    take as draft
                  </button>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
