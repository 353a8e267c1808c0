import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { api, got, type Schemas } from "../../api/client";
import { At, Trouble } from "../../parts/basics";

/** What people wrote about an alarm, and a line for another note. `back`: the element that gets the focus after it. */
export function Notes({
  alarm,
  operator,
  close,
  after,
  back,
}: {
  alarm: Schemas["AlarmOut"];
  operator: boolean;
  close: () => void;
  after: () => unknown;
  back: string;
}) {
  const input = useRef<HTMLInputElement>(null);
  const notes = useQuery({
    queryKey: ["journal", "alarm", alarm.id],
    enabled: alarm.notes > 0,
    queryFn: ({ signal }) =>
      got(api.GET("/api/v1/journal", { signal, params: { query: { alarm: String(alarm.id), limit: 100 } } })),
  });
  const leave = () => {
    close();
    document.getElementById(back)?.focus();
  };
  const save = useMutation({
    mutationFn: (note: string) =>
      got(api.POST("/api/v1/alarms/{ident}/note", { params: { path: { ident: alarm.id } }, body: { note } })),
    onSuccess: () => {
      after();
      leave();
    },
  });
  return (
    <div role="row" className="border-t-0! pb-2 pl-9">
      <div role="gridcell">
        <ul>
          {notes.data?.results
            .filter((e) => e.note)
            .map((e) => (
              <li key={e.id}>
                “{e.note}”{" "}
                <span className="text-[12.5px] text-second">
                  {e.who}, <At at={e.at} />
                </span>
              </li>
            ))}
        </ul>
        {operator && (
          <form
            className="flex items-center gap-2 py-1"
            onSubmit={(e) => {
              e.preventDefault();
              save.mutate(input.current?.value ?? "");
            }}
          >
            <input
              ref={input}
              autoFocus
              className="input max-w-xl"
              aria-label="Note"
              maxLength={1000}
              placeholder="What was it?"
              onKeyDown={(e) => e.key === "Escape" && leave()}
            />
            <button className="button" disabled={save.isPending}>
              Add the note
            </button>
          </form>
        )}
        <Trouble error={notes.error ?? save.error} />
      </div>
    </div>
  );
}
