import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ofColleagues, ofSites, ofTypes } from "../../api/queries";
import { useAddress, word } from "../../parts/address";
import { Pick } from "../../parts/filters";
import { useLookback } from "../../parts/lookback-state";
import { PRIORITIES } from "../../parts/marks";
import { Selections } from "../../parts/selections";

const ADDRESS = { q: word, priority: word, site: word, type: word, person: word, longer: word };
const NAMES = Object.keys(ADDRESS) as (keyof typeof ADDRESS)[];
const ALL = Object.fromEntries(NAMES.map((name) => [name, ""]));
export type Selection = Partial<Record<(typeof NAMES)[number], string>>;

/** What the list is narrowed to; it stands in the URL. */
export function useSelection(): Selection {
  const [all] = useAddress(ADDRESS);
  return Object.fromEntries(Object.entries(all).filter(([, value]) => value));
}

/** The selection as the API asks for it. */
export const asked = ({ longer, ...rest }: Selection) => ({ ...rest, ...(longer ? { longer: Number(longer) } : {}) });

export function Filters({ children }: { children?: ReactNode }) {
  const own = useSelection();
  const [, put] = useAddress(ADDRESS, { ends: "offset" });
  const sites = useQuery(ofSites(useLookback()));
  const types = useQuery(ofTypes());
  const people = useQuery(ofColleagues());
  return (
    <div className="mb-2 flex flex-wrap items-center gap-2" role="search" aria-label="Which alarms">
      <input
        className="input !w-40"
        type="search"
        aria-label="Search alarms"
        placeholder="words, a device …"
        value={own.q ?? ""}
        onChange={(e) => put({ q: e.target.value })}
      />
      <Pick
        label="Priority"
        value={own.priority ?? ""}
        options={[["", "every priority"], ...PRIORITIES.map((p): [string, string] => [p, p])]}
        onChange={(priority) => put({ priority })}
      />
      <Pick
        label="Site"
        className="max-md:hidden"
        value={own.site ?? ""}
        options={[["", "every site"], ...(sites.data?.results ?? []).map((s): [string, string] => [s.name, s.title])]}
        onChange={(site) => put({ site })}
      />
      <Pick
        label="Device type"
        className="max-md:hidden"
        value={own.type ?? ""}
        options={[["", "every type"], ...(types.data?.results ?? []).map((t): [string, string] => [t.key, t.title])]}
        onChange={(type) => put({ type })}
      />
      <Pick
        label="Who has it"
        className="max-md:hidden"
        value={own.person ?? ""}
        options={[
          ["", "everybody's"],
          ["nobody", "nobody's"],
          ...(people.data ?? []).map((p): [string, string] => [p.username, p.name]),
        ]}
        onChange={(person) => put({ person })}
      />
      <Pick
        label="Age"
        className="max-md:hidden"
        value={own.longer ?? ""}
        options={[
          ["", "of any age"],
          ["3600", "for over an hour"],
          ["86400", "for over a day"],
          ["604800", "for over a week"],
        ]}
        onChange={(longer) => put({ longer })}
      />
      {Object.keys(own).length > 0 && (
        <button type="button" className="link" onClick={() => put(ALL)}>
          all alarms
        </button>
      )}
      <Selections of="alarms" parts={NAMES} filter={own} />
      <span className="ml-auto">{children}</span>
    </div>
  );
}
