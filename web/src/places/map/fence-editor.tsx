import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { Dispatch, SetStateAction } from "react";
import { api, got } from "../../api/client";
import { TextField, Trouble } from "../../parts/basics";
import { useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";
import { useSettled } from "../definitions/draft";
import type { Fence } from "./chart";
import { Corners } from "./corners";
import { Crossings } from "./crossings";
import { ofCrossings } from "./queries";
import { type Drawing, type Feature, featureOf, shapeWord, unfinished } from "./shape";
import { WriteCorner } from "./write-corner";

/** A fence being drawn or changed: its name, its corners, and what it would have seen in the lookback. */
export function FenceEditor({
  drawing,
  setDrawing,
  corner,
  setCorner,
  saved,
  done,
}: {
  drawing: Drawing;
  setDrawing: Dispatch<SetStateAction<Drawing | null>>;
  corner: [number, number] | null;
  setCorner: (corner: [number, number] | null) => void;
  saved: Fence | null;
  done: (id: number | null) => void;
}) {
  const client = useQueryClient();
  const lookback = useLookback();
  const { shape } = drawing;
  const wrong = unfinished(shape);
  const feature = wrong ? null : featureOf(shape, drawing.properties);
  const settled = useSettled(feature, 400);
  const tried = useQuery(ofCrossings(drawing.ring === null ? settled : null, lookback));
  const before = useQuery(ofCrossings(saved ? (saved.feature as Feature) : null, lookback));
  const save = useMutation({
    mutationFn: async () => {
      const body = { name: drawing.name.trim(), feature: feature! };
      if (drawing.id === null) return got(api.POST("/api/v1/fences", { body }));
      const params = { path: { ident: drawing.id }, header: { "If-Match": `"${drawing.revision}"` } };
      return got(
        api.PATCH("/api/v1/fences/{ident}", {
          params,
          body: body.name === saved?.name ? { feature: body.feature } : body,
        }),
      );
    },
    onSuccess: async (made) => {
      await client.invalidateQueries({
        predicate: (q) => ["fences", "fence versions", "overview"].includes(String(q.queryKey[0])),
      });
      done(made.id);
    },
  });
  const ring = (hole: boolean) => {
    if ("centre" in shape) return;
    const part = hole
      ? Math.max(...shape.rings.map((r) => r.part))
      : Math.max(-1, ...shape.rings.map((r) => r.part)) + 1;
    setCorner(null);
    setDrawing({
      ...drawing,
      shape: { rings: [...shape.rings, { part, hole, corners: [] }] },
      ring: shape.rings.length,
    });
  };
  const more = tried.data && before.data ? tried.data.count - before.data.count : null;
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <TextField
        label="name of the fence"
        required
        autoFocus={drawing.id === null}
        maxLength={120}
        value={drawing.name}
        disabled={Boolean(saved?.used_by.length)}
        note={saved?.used_by.length ? "conditions call it so" : undefined}
        onChange={(e) => setDrawing({ ...drawing, name: e.target.value })}
      />
      <p className="mt-2" role="status">
        {drawing.ring !== null ? (
          <>
            <b>Press on the map</b> for each corner, or write one below.{" "}
            <button type="button" className="link" onClick={() => setDrawing({ ...drawing, ring: null })}>
              That is all
            </button>
          </>
        ) : (
          shapeWord(shape)
        )}
      </p>
      {wrong && <p className="text-[12.5px] text-second">{wrong}</p>}
      <div className="mt-1">
        <Corners
          shape={shape}
          corner={corner}
          setCorner={setCorner}
          editable
          change={(next) => setDrawing({ ...drawing, shape: next })}
        />
      </div>
      {!("centre" in shape) && (
        <p className="mt-1 flex flex-wrap gap-x-4">
          <WriteCorner
            add={(at) => {
              const k = drawing.ring ?? shape.rings.length - 1;
              const rings = shape.rings.length
                ? shape.rings.map((r, n) => (n === k ? { ...r, corners: [...r.corners, at] } : r))
                : [{ part: 0, hole: false, corners: [at] }];
              setDrawing({ ...drawing, shape: { rings } });
            }}
          />
          {!wrong && drawing.ring === null && (
            <>
              <button type="button" className="link" onClick={() => ring(true)}>
                cut a hole
              </button>
              <button type="button" className="link" onClick={() => ring(false)}>
                another part
              </button>
            </>
          )}
        </p>
      )}
      {feature && (
        <>
          <h2 className="mt-3">If it were so in the lookback</h2>
          <p aria-live="polite">
            {tried.data ? (
              <>
                <b>{counted(tried.data.count, "crossing")}</b>
                {more !== null && more !== 0 && `, ${Math.abs(more)} ${more > 0 ? "more" : "fewer"} than as it is`}
                {more === 0 && ", as many as it is"}; {counted(tried.data.inside.length, "device")} inside at the end.
              </>
            ) : (
              !tried.error && "Counting …"
            )}
          </p>
        </>
      )}
      <Trouble error={save.error ?? (feature ? tried.error : null)} />
      <div className="mt-3 flex gap-2">
        <button className="button strong" disabled={Boolean(wrong) || !drawing.name.trim() || save.isPending}>
          {drawing.id === null ? "Keep the fence" : "Keep the change"}
        </button>
        <button type="button" className="button" onClick={() => done(drawing.id)}>
          Cancel
        </button>
      </div>
      {feature && tried.data && <Crossings found={tried.data} choose={null} />}
    </form>
  );
}
