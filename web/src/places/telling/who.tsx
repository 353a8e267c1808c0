import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ofDefinitions, ofDevices } from "../../api/queries";
import { At, Empty, Field, Trouble } from "../../parts/basics";
import { Pick } from "../../parts/filters";
import { look } from "../../parts/look";
import { PRIORITIES } from "../../parts/marks";
import { Cell } from "../../parts/table";
import { fromShown, toShown } from "../../parts/time";
import { ofWho } from "./queries";

const COLUMNS = look("row-line grid grid-cols-[150px_60px_minmax(0,1fr)_minmax(0,1.4fr)] items-center gap-3");

/** Who would be told of an alarm, if it were raised on a device at a moment and nobody took it. */
export function Who() {
  const [device, setDevice] = useState("");
  const [priority, setPriority] = useState<string>("high");
  const [condition, setCondition] = useState("");
  const [at, setAt] = useState(() => new Date());
  const devices = useQuery(ofDevices({ limit: 500, order: "name" }));
  const conditions = useQuery(ofDefinitions({ kind: "condition", limit: 500 }));
  const name = device || (devices.data?.results[0]?.name ?? "");
  const told = useQuery({
    ...ofWho({ device: name, priority, at: at.toISOString(), ...(condition ? { condition: Number(condition) } : {}) }),
    enabled: Boolean(name),
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-2">
        <span className="min-h-8 content-center">If an alarm of</span>
        <Pick
          label="Priority"
          value={priority}
          options={PRIORITIES.map((p) => [p, `${p} priority`])}
          onChange={setPriority}
        />
        <Pick
          label="Condition"
          value={condition}
          options={[
            ["", "some condition"],
            ...(conditions.data?.results ?? []).map((d): [number, string] => [d.id, d.name]),
          ]}
          onChange={setCondition}
        />
        <span className="min-h-8 content-center">were raised on</span>
        <Pick
          label="Device"
          value={name}
          options={(devices.data?.results ?? []).map((d): [string, string] => [d.name, d.title])}
          onChange={setDevice}
        />
        <Field label="at">
          {(id) => (
            <input
              id={id}
              type="datetime-local"
              className="input"
              value={toShown(at)}
              onChange={(e) => setAt(fromShown(e.target.value) ?? at)}
            />
          )}
        </Field>
      </div>
      <Trouble error={told.error ?? devices.error} />
      {told.data?.length === 0 && (
        <Empty title="Nobody would be told.">No way of telling that is in use takes this alarm.</Empty>
      )}
      <div role="table" aria-label="Who is told when" className="rows max-w-4xl">
        {told.data?.map((t, i) => (
          <div role="row" key={i} className={COLUMNS}>
            <Cell>
              <At at={t.at} />
              {t.quiet && <div className="text-[12.5px] text-second">after quiet hours</div>}
            </Cell>
            <Cell look="text-second">{t.what === "raised" ? `step ${t.step}` : "if still open"}</Cell>
            <Cell look="truncate font-semibold">{t.contact}</Cell>
            <Cell look="truncate text-second">
              {t.outlet}
              {t.to && `: ${t.to}`} · {t.chain}
            </Cell>
          </div>
        ))}
      </div>
    </>
  );
}
