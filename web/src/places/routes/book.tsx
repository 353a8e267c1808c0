import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got } from "../../api/client";
import { useAddress, word } from "../../parts/address";
import { Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useChosen } from "../../parts/chosen";
import { useKeys } from "../../parts/keys";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { Begin } from "../definitions/begin";
import { BookLine } from "./book-line";
import { OrderEffect } from "./effect";
import { FlowPicture } from "./flow";
import { inOrder, moved, ofBook, ofFlow, type Row } from "./queries";

const ADDRESS = { q: word, node: word };

/** The book of routes: what readings pass, from top to bottom, and what each has done. */
export default function Book() {
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const engineer = useMay("engineer");
  const client = useQueryClient();
  const [{ q, node }, put] = useAddress(ADDRESS);
  const [adding, setAdding] = useState(false);
  const [dragged, setDragged] = useState<number | null>(null);
  const book = useQuery(ofBook(lookback));
  const flow = useQuery(ofFlow(lookback));
  // Another order is looked at before it is put in force.
  const [wanted, setWanted] = useState<number[] | null>(null);
  const inForce = (book.data?.rows ?? []).filter((row) => row.place !== null).map((row) => row.definition.id);
  const asked = wanted !== null && inForce.every((id) => wanted.includes(id)) ? wanted : null;
  const placed = asked ?? inForce;
  const all = inOrder(book.data?.rows ?? [], asked);
  const through = (row: Row) =>
    !node ||
    node === `r${row.definition.id}` ||
    (flow.data?.links ?? []).some(
      (l) =>
        l.count > 0 &&
        ((l.source === node && l.target === `r${row.definition.id}`) ||
          (l.target === node && l.source === `r${row.definition.id}`)),
    );
  const rows = all.filter(
    (row) =>
      through(row) &&
      (!q || `${row.definition.name} ${row.definition.sentence ?? ""}`.toLowerCase().includes(q.toLowerCase())),
  );
  const chosen = useChosen(rows, (row) => row.definition.id, "book");
  const order = useMutation({
    mutationFn: async (routes: number[]) => {
      await got(api.PUT("/api/v1/routes/order", { body: { routes } }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["definitions"] }).then(() => setWanted(null)),
  });
  const move = (id: number | undefined, by: number) => {
    if (id === undefined || !engineer || order.isPending) return;
    const next = moved(placed, id, by);
    if (next !== placed) setWanted(next.join() === inForce.join() ? null : next);
  };
  useKeys({
    ArrowDown: () => chosen.walk(1),
    ArrowUp: () => chosen.walk(-1),
    Enter: () => chosen.current && void navigate(kept(`/routes/${chosen.current.definition.id}`)),
    ...(asked ? { Escape: () => setWanted(null) } : {}),
    "Alt+PageUp": () => move(chosen.current?.definition.id, -1),
    "Alt+PageDown": () => move(chosen.current?.definition.id, 1),
  });
  const readings = book.data?.messages ?? 0;
  return (
    <>
      <Heading
        title="Routes"
        about={
          book.data &&
          `${counted(placed.length, "route")} in force, passed from top to bottom · ` +
            `${counted(readings, "message")} in ${spanWord(lookback.spanS)}`
        }
      >
        <Link className="button inline-flex items-center" to={kept("/routes/try")}>
          Watch arrivals
        </Link>
        <Link className="button inline-flex items-center" to={kept("/routes/tables")}>
          Tables
        </Link>
        {engineer && (
          <button type="button" className="button strong" aria-expanded={adding} onClick={() => setAdding(!adding)}>
            Begin a route
          </button>
        )}
      </Heading>
      {adding && <Begin kind="route" taken={[]} />}
      <Trouble error={book.error ?? order.error} retry={() => void book.refetch()} />
      {asked && (
        <OrderEffect
          routes={asked}
          busy={order.isPending}
          put={() => order.mutate(asked)}
          leave={() => {
            order.reset();
            setWanted(null);
          }}
        />
      )}
      {book.isPending && <Waiting what="the routes" />}
      {book.data && all.length === 0 && (
        <Empty title="No route yet.">
          Readings are stored as their decoders give them. A route drops what is nonsense, corrects, derives, thins out,
          and sends readings on. Watch arrivals to see what there is, and begin one from there.
        </Empty>
      )}
      {all.length > 0 && (
        <div className="grid gap-6 xl:grid-cols-[minmax(0,1fr)_290px] lg:grid-cols-[minmax(0,1fr)_250px]">
          <div className="min-w-0">
            {(all.length > 6 || q || node) && (
              <p className="mb-2 flex flex-wrap items-center gap-3">
                <input
                  className="input !w-56"
                  aria-label="Find a route"
                  placeholder="find a route"
                  value={q}
                  onChange={(e) => put({ q: e.target.value })}
                />
                {node && (
                  <button type="button" className="link" onClick={() => put({ node: "" })}>
                    all routes again
                  </button>
                )}
                {rows.length < all.length && (
                  <span className="text-second">
                    {rows.length} of {all.length}
                  </span>
                )}
              </p>
            )}
            <div className="book rows" role="grid" aria-label="Routes in their order">
              <div role="row" className="book-row book-head text-[12.5px] text-second">
                <span role="columnheader">#</span>
                <span role="columnheader">what it does</span>
                <span role="columnheader" className="text-right">
                  seen
                </span>
                <span role="columnheader" className="text-right">
                  took
                </span>
                <span role="columnheader" className="text-right">
                  which are
                </span>
                <span role="columnheader" className="text-right">
                  {spanWord(lookback.spanS)}
                </span>
              </div>
              {rows.map((row) => (
                <BookLine
                  key={row.definition.id}
                  row={row}
                  own={chosen.row(row)}
                  to={kept(`/routes/${row.definition.id}`)}
                  span={spanWord(lookback.spanS)}
                  last={row.place === placed.length}
                  move={engineer && row.place !== null ? (by) => move(row.definition.id, by) : undefined}
                  drag={
                    engineer && row.place !== null
                      ? {
                          begin: () => setDragged(row.definition.id),
                          over: dragged !== null && dragged !== row.definition.id,
                          drop: () => {
                            if (dragged === null) return;
                            move(dragged, placed.indexOf(row.definition.id) - placed.indexOf(dragged));
                            setDragged(null);
                          },
                          end: () => setDragged(null),
                        }
                      : undefined
                  }
                />
              ))}
            </div>
            <p className="keys mt-2 text-[12.5px] text-second">
              <Key>↑</Key> <Key>↓</Key> walk <Key>Enter</Key> open
              {engineer && (
                <>
                  {" "}
                  <Key>Alt PgUp</Key> <Key>Alt PgDn</Key> earlier, later
                </>
              )}
            </p>
          </div>
          <FlowPicture chosen={node} choose={(id) => put({ node: id })} />
        </div>
      )}
    </>
  );
}
