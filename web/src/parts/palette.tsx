import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { ofSites, ofTypes, ofDevices, ofDefinitions } from "../api/queries";
import { titleOfDoc } from "../help/titles";
import { Trouble } from "./basics";
import { useChosen } from "./chosen";
import { Box } from "./dialog";
import { groundNow, setGround } from "./ground";
import { look } from "./look";
import { useKept } from "./lookback-state";
import { Key, StateMark } from "./marks";
import { useMay } from "./me";
import { signOut } from "./session";

type Act = {
  word: string;
  note: string;
  path?: string;
  act?: () => void;
  state?: string;
  also?: string;
  late?: boolean;
};
const MOST = 14;
const FEW = 6; // below so many things that are found by name, the texts of the help are looked through too

const keyOf = (act: Act) => `${act.word} ${act.note} ${act.path ?? ""}`;

/** How well a thing fits: 0 it begins with the words, 1 each begins a word of it, 2 each stands in it, else null. */
export function fit(act: { word: string; also?: string }, wanted: string): number | null {
  const text = act.word.toLowerCase();
  if (text.startsWith(wanted)) return 0;
  const all = `${text} ${act.also ?? ""}`.toLowerCase();
  const words = wanted.split(/\s+/);
  if (words.every((word) => all.split(/[\s_-]+/).some((part) => part.startsWith(word)))) return 1;
  return words.every((word) => all.includes(word)) ? 2 : null;
}

/** Find a device, a site, a field, a definition, a place or an act; walk with arrows, go with Enter. */
export function Palette({
  open,
  onOpenChange,
  go,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  go: (path: string) => void;
}) {
  const [text, setText] = useState("");
  const [held, setHeld] = useState<{ wanted: string; list: string } | null>(null);
  const kept = useKept();
  const engineer = useMay("engineer");
  const admin = useMay("admin");
  const wanted = text.trim().toLowerCase();
  const devices = useQuery({
    ...ofDevices({ q: wanted, limit: 10, order: "match" }),
    enabled: open && wanted !== "",
    placeholderData: keepPreviousData,
  });
  const definitions = useQuery({ ...ofDefinitions(), enabled: open });
  const sites = useQuery({ ...ofSites(), enabled: open });
  const help = useQuery({
    queryKey: ["help"],
    enabled: open && wanted.length > 2,
    staleTime: Infinity,
    queryFn: async () => (await import("../help/sections")).SECTIONS,
  });
  const types = useQuery({ ...ofTypes(), enabled: open });
  const leave = useMutation({ mutationFn: signOut });
  useEffect(() => {
    if (open) {
      setText("");
      setHeld(null);
    }
  }, [open]);
  const other = groundNow() === "dark" ? "light" : "dark";
  const places: Act[] = [
    { word: "Watch", note: "place", path: "/watch", also: "first overview hand-over" },
    { word: "Health", note: "place", path: "/watch/health", also: "figures availability delay clock" },
    { word: "Rhythm", note: "place", path: "/watch/rhythm", also: "messages gaps bursts cadence strokes" },
    {
      word: "Curves",
      note: "place",
      path: "/watch/curves",
      also: "chart several readings, difference, ratio, histogram",
    },
    { word: "Compare", note: "place", path: "/watch/compare", also: "curves of many devices" },
    { word: "Devices", note: "place", path: "/devices" },
    { word: "Arrivals", note: "place", path: "/arrivals" },
    { word: "Decoders", note: "place", path: "/decoders" },
    { word: "Routes", note: "place", path: "/routes" },
    { word: "Conditions", note: "place", path: "/conditions" },
    { word: "Alarms", note: "place", path: "/alarms" },
    { word: "Journal of alarms", note: "place", path: "/alarms", also: "history" },
    { word: "Places", note: "place", path: "/places", also: "map fences" },
    { word: "Telling", note: "place", path: "/telling", also: "contacts outlets deliveries" },
    { word: "Device types", note: "place", path: "/devices/types" },
    { word: "Sites", note: "place", path: "/devices/sites" },
    ...(admin ? [{ word: "People", note: "place", path: "/people" }] : []),
    { word: "Storage", note: "place", path: "/settings/storage", also: "disk retention kept deleted" },
    { word: "Settings", note: "place", path: "/settings", also: "password token zone keys" },
    { word: "Help", note: "place", path: "/help", also: "guide manual language reference documentation" },
    ...(engineer
      ? [
          { word: "Add a device", note: "do", path: "/devices/add" },
          { word: "Add a device type", note: "do", path: "/devices/types/new" },
          { word: "Add a site", note: "do", path: "/devices/sites/new" },
        ]
      : []),
    { word: `Use the ${other} background`, note: "do", act: () => setGround(other), also: "mode theme night" },
    { word: "Change your password", note: "do", path: "/settings" },
    { word: "Sign out", note: "do", act: () => leave.mutate(), also: "log out leave" },
  ];
  const all: Act[] = [
    ...places,
    ...(definitions.data?.results ?? []).map((d) => ({
      word: d.name,
      note: `${d.kind}, ${d.type_title}`,
      path: `/${d.kind}s/${d.id}`,
    })),
    ...(devices.data?.results ?? []).map((d) => ({
      word: d.title,
      note: `${d.type_title}, ${d.site_title ?? "no site"}`,
      path: `/devices/${d.name}`,
      state: d.state,
      also: `${d.name} ${wanted}`,
    })),
    ...(sites.data?.results ?? []).map((s) => ({
      word: s.title,
      note: "site",
      path: `/devices?site=${s.name}`,
      also: s.name,
    })),
    ...(types.data?.results ?? []).flatMap((t) => [
      { word: t.title, note: "device type", path: `/devices/types/${t.key}`, also: t.key },
      ...(t.fields ?? []).map((f) => ({
        word: f.name,
        note: `field of ${t.title}`,
        path: `/devices/types/${t.key}`,
        also: f.name.replaceAll("_", " "),
      })),
    ]),
  ];
  if (wanted.length > 2)
    all.push(
      ...(help.data ?? []).map((s) => ({
        word: s.title,
        note: `help, ${titleOfDoc(s.doc)}`,
        path: `/help/${s.doc}#${s.slug}`,
        also: s.text,
        late: true,
      })),
    );
  const ranked = all
    .map((act) => ({ act, rank: fit(act, wanted) }))
    .filter((row): row is { act: Act; rank: number } => row.rank !== null)
    .sort((a, b) => a.rank - b.rank || Number(a.act.late ?? false) - Number(b.act.late ?? false))
    .map((row) => row.act);
  const others = ranked.filter((act) => !act.late).length;
  const found = (
    wanted ? ranked.filter((act) => !act.late || others < FEW || act.word.toLowerCase().includes(wanted)) : places
  ).slice(0, MOST);
  // Until somebody walks, the first one is chosen, whatever is still being found; from then on, what was walked to.
  const first = found[0] ? keyOf(found[0]) : "";
  const list = held?.wanted === wanted ? held.list : `${wanted} ${first}`;
  const chosen = useChosen(found, keyOf, list);
  const walk = (by: number) => {
    setHeld({ wanted, list });
    chosen.walk(by, false);
  };
  const choose = (act: Act | undefined) => {
    if (!act) return;
    onOpenChange(false);
    if (act.act) act.act();
    else if (act.path) {
      const [whole = "", part] = act.path.split("#");
      const [path = "", query] = whole.split("?");
      go(kept(path, Object.fromEntries(new URLSearchParams(query))) + (part ? `#${part}` : ""));
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Box look="top-[12vh] w-[min(560px,94vw)] bg-raised">
        <Dialog.Title className="sr-only">Find or do anything</Dialog.Title>
        <input
          role="combobox"
          aria-expanded
          aria-controls="palette-list"
          aria-activedescendant={chosen.element}
          aria-label="Find or do anything"
          className="w-full border-b border-line bg-transparent px-4 py-3 text-[16px] outline-none"
          placeholder="A device, a site, a field, a definition, an act …"
          value={text}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "ArrowDown") walk(1);
            else if (e.key === "ArrowUp") walk(-1);
            else if (e.key === "Enter") choose(chosen.current ?? found[0]);
            else return;
            e.preventDefault();
          }}
        />
        <ul id="palette-list" role="listbox" aria-label="Found" className="max-h-[50vh] overflow-y-auto py-1">
          {found.map((act) => {
            const { id, ...row } = chosen.row(act);
            return (
              <li
                key={id}
                id={id}
                role="option"
                aria-selected={row["aria-selected"]}
                className={look(
                  "flex min-h-8 cursor-pointer items-center gap-2 px-4",
                  `${row["aria-selected"] ? "is-selected" : ""}`,
                )}
                onClick={() => choose(act)}
                onMouseMove={() => {
                  setHeld({ wanted, list });
                  row.onMouseDown();
                }}
              >
                {act.state && <StateMark state={act.state} />}
                <span className="font-semibold">{act.word}</span>
                <span className="ml-auto text-right text-[12.5px] text-second">{act.note}</span>
              </li>
            );
          })}
          {found.length === 0 && !devices.isFetching && (
            <li className="px-4 py-2 text-second">Nothing is called that.</li>
          )}
        </ul>
        <Trouble error={leave.error ?? devices.error} />
        <p className="keys flex gap-3 border-t border-line px-4 py-1.5 text-[12px] text-second">
          <span>
            <Key>↑</Key> <Key>↓</Key> walk
          </span>
          <span>
            <Key>Enter</Key> go
          </span>
          <span>
            <Key>Esc</Key> close
          </span>
        </p>
      </Box>
    </Dialog.Root>
  );
}
