import { useQuery } from "@tanstack/react-query";
import { Trouble, Waiting } from "../../parts/basics";
import { Key } from "../../parts/marks";
import { counted } from "../../parts/words";
import { ofOrder } from "./queries";

/** What another order would make otherwise of the last messages, before it is put in force. */
export function OrderEffect({
  routes,
  busy,
  put,
  leave,
}: {
  routes: number[];
  busy: boolean;
  put: () => void;
  leave: () => void;
}) {
  const tried = useQuery({ ...ofOrder(routes), retry: false });
  const found = tried.data;
  const otherwise = found ? found.fields.length + found.sent.length : 0;
  return (
    <section aria-label="Another order" className="mb-3 border-l-3 border-ink pl-3">
      <p>
        <b>Another order, not in force yet.</b>{" "}
        {found &&
          (found.messages === 0
            ? "No device type passes these routes in another order."
            : `Over the last ${counted(found.messages, "message")} of ${found.types.join(", ")} ` +
              (otherwise ? "it would change:" : "nothing would be otherwise."))}
      </p>
      <Trouble error={tried.error} retry={() => void tried.refetch()} />
      {tried.isPending && <Waiting what="what it would change" />}
      {found && otherwise > 0 && (
        <ul className="my-1 flex flex-wrap gap-x-5">
          {found.fields.slice(0, 8).map((f) => (
            <li key={f.field}>
              <b>{f.field.replaceAll("_", " ")}</b>{" "}
              {f.state === "new"
                ? "would be there"
                : f.state === "lost"
                  ? "would be gone"
                  : `${f.differ} of ${counted(f.values, "value")} otherwise`}
            </li>
          ))}
          {found.fields.length > 8 && <li className="text-second">and {found.fields.length - 8} fields more</li>}
          {found.sent.map((s) => (
            <li key={s.outlet}>
              <b>{s.outlet}</b> {counted(s.then, "reading")} instead of {s.now}
            </li>
          ))}
        </ul>
      )}
      <p className="mt-1 flex items-center gap-2">
        <button type="button" className="button strong" disabled={busy} onClick={put}>
          Put in this order
        </button>
        <button type="button" className="button" onClick={leave}>
          Leave as it is
        </button>
        <span className="keys text-[12.5px] text-second">
          <Key>Esc</Key> leaves it
        </span>
      </p>
    </section>
  );
}
