import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { ofTypes } from "../../api/queries";
import { Empty, Heading, Trouble, Waiting } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { TypeForm } from "./type-form";

export default function Types() {
  const { key } = useParams();
  const kept = useKept();
  const types = useQuery(ofTypes());
  const engineer = useMay("engineer");
  if (types.isPending) return <Waiting what="the device types" />;
  if (!types.data) return <Trouble error={types.error} />;
  const all = types.data.results;
  const chosen = key === "new" ? null : (all.find((t) => t.key === key) ?? all[0]);
  return (
    <>
      <Heading title="Device types" about="What all units of one make share: fields with units, setpoints, cadence">
        {chosen && (chosen.setpoints?.length ?? 0) > 0 && (
          <Link className="button" to={kept(`/devices/types/${chosen.key}/setpoints`)}>
            Setpoints as a table
          </Link>
        )}
        {engineer && (
          <Link className="button strong" to={kept("/devices/types/new")}>
            Add a type
          </Link>
        )}
      </Heading>
      <div className="grid gap-8 lg:grid-cols-[230px_1fr]">
        <ul className="rows self-start">
          {all.map((t) => (
            <li key={t.key}>
              <Link
                to={kept(`/devices/types/${t.key}`)}
                className={`row-line flex items-center px-2.5 ${chosen?.key === t.key ? "is-selected" : ""}`}
              >
                <span className="font-semibold">{t.title}</span>
                <span className="ml-auto text-second">{t.devices}</span>
              </Link>
            </li>
          ))}
          {all.length === 0 && <Empty title="No type yet.">Add one: a key, its fields and their units.</Empty>}
        </ul>
        {(chosen || key === "new" || all.length === 0) && (
          <TypeForm key={chosen?.key ?? "new"} type={chosen ?? null} editable={engineer} />
        )}
      </div>
    </>
  );
}
