import { useQuery } from "@tanstack/react-query";
import { ofDeliveries } from "../../api/queries";
import { oneOf, useAddress } from "../../parts/address";
import { Heading } from "../../parts/basics";
import { Toggles } from "../../parts/filters";
import { useMay } from "../../parts/me";
import { Chains } from "./chains";
import { Contacts } from "./contacts";
import { Deliveries } from "./deliveries";
import { Outlets } from "./outlets";
import { Shifts } from "./shifts";
import { Who } from "./who";

const SHOWS: [string, string][] = [
  ["ways", "Ways of telling"],
  ["contacts", "Contacts"],
  ["outlets", "Outlets"],
  ["deliveries", "Deliveries"],
  ["who", "Who is told when"],
  ["shifts", "Hand-overs"],
];
const ADDRESS = {
  show: oneOf(
    SHOWS.map(([show]) => show),
    "ways",
  ),
};

/** Who is told of alarms, by which way, and what became of it. */
export default function Telling() {
  const [{ show: tab }, put] = useAddress(ADDRESS);
  const engineer = useMay("engineer");
  const state = useQuery({ ...ofDeliveries({ limit: 1 }), refetchInterval: 10_000 });
  return (
    <>
      <Heading
        title="Telling"
        about={
          state.data && (
            <>
              {state.data.waiting.toLocaleString("en")} waiting
              {state.data.undelivered > 0 && (
                <>
                  , <b className="text-ink">{state.data.undelivered.toLocaleString("en")} not delivered</b>
                </>
              )}
            </>
          )
        }
      >
        <Toggles label="Show" value={tab} options={SHOWS} onChange={(show) => put({ show })} />
      </Heading>
      {tab === "ways" && <Chains engineer={engineer} />}
      {tab === "contacts" && <Contacts engineer={engineer} />}
      {tab === "outlets" && <Outlets engineer={engineer} />}
      {tab === "deliveries" && <Deliveries />}
      {tab === "who" && <Who />}
      {tab === "shifts" && <Shifts engineer={engineer} />}
    </>
  );
}
