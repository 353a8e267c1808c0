import { Link } from "react-router";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Selections } from "../../parts/selections";
import { scopeOf } from "../definitions/beginning";

const PARTS = ["q", "type", "site", "gateway", "state", "order"];

/** Selections of devices, with their columns; one that is of a type begins a condition. */
export function DeviceSelections({
  filter,
  columns,
  setColumns,
}: {
  filter: Record<string, string>;
  columns: string[];
  setColumns: (next: string[]) => void;
}) {
  const kept = useKept();
  const engineer = useMay("engineer");
  return (
    <Selections
      of="devices"
      parts={PARTS}
      filter={filter}
      usual={{ order: "worst" }}
      columns={columns.filter((c) => /^(value|label):|^(?!type|site|rhythm|heard|gateway)/.test(c))}
      chosen={(own) => setColumns([...columns.filter((c) => !/^(value|label):/.test(c)), ...own])}
    >
      {engineer && filter.type && scopeOf(filter) && (
        <Link className="link" to={kept("/conditions", { type: filter.type, scope: scopeOf(filter) })}>
          begin a condition on these
        </Link>
      )}
    </Selections>
  );
}
