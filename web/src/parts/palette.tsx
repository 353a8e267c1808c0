import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { api, got } from "../api/client";
import { Box } from "./dialog";
import { useKept } from "./lookback-state";
import { Key, StateMark } from "./marks";

type Act = { word: string; note: string; path: string; state?: string };

/** Find a device, a definition, a place; walk with arrows, go with Enter. */
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
  const [at, setAt] = useState(0);
  const kept = useKept();
  const devices = useQuery({
    queryKey: ["devices", "palette", text],
    enabled: open,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET("/api/v1/devices", { params: { query: { q: text, limit: 8, order: "name" } } })),
  });
  const definitions = useQuery({
    queryKey: ["definitions", "all"],
    enabled: open,
    queryFn: () => got(api.GET("/api/v1/definitions", { params: { query: {} } })),
  });
  useEffect(() => {
    if (open) {
      setText("");
      setAt(0);
    }
  }, [open]);
  const places: Act[] = [
    { word: "Devices", note: "place", path: "/devices" },
    { word: "Arrivals", note: "place", path: "/arrivals" },
    { word: "Decoders", note: "place", path: "/decoders" },
    { word: "Conditions", note: "place", path: "/conditions" },
    { word: "Alarms", note: "place", path: "/alarms" },
    { word: "Device types", note: "place", path: "/devices/types" },
    { word: "Add a device", note: "do", path: "/devices/add" },
    { word: "Settings", note: "place", path: "/settings" },
  ];
  const wanted = text.trim().toLowerCase();
  const fits = (act: Act) => wanted.split(/\s+/).every((word) => act.word.toLowerCase().includes(word));
  const found: Act[] = [
    ...(wanted ? places.filter(fits) : places),
    ...(definitions.data?.results ?? [])
      .map((d) => ({ word: d.name, note: d.kind, path: `/${d.kind}s/${d.id}` }))
      .filter((a) => wanted && fits(a)),
    ...(wanted ? (devices.data?.results ?? []) : []).map((d) => ({
      word: d.title,
      note: `${d.type_title}, ${d.site_title ?? "no site"}`,
      path: `/devices/${d.name}`,
      state: d.state,
    })),
  ].slice(0, 14);
  const choose = (act: Act | undefined) => {
    if (!act) return;
    onOpenChange(false);
    go(kept(act.path));
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Box look="top-[12vh] w-[min(560px,94vw)] bg-raised">
        <Dialog.Title className="sr-only">Find or do anything</Dialog.Title>
        <input
          role="combobox"
          aria-expanded
          aria-controls="palette-list"
          aria-activedescendant={`palette-${at}`}
          aria-label="Find or do anything"
          className="w-full border-b border-line bg-transparent px-4 py-3 text-[16px] outline-none"
          placeholder="A device, a definition, a place …"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
            setAt(0);
          }}
          onKeyDown={(e) => {
            if (e.key === "ArrowDown") setAt((n) => Math.min(n + 1, found.length - 1));
            else if (e.key === "ArrowUp") setAt((n) => Math.max(n - 1, 0));
            else if (e.key === "Enter") choose(found[at]);
            else return;
            e.preventDefault();
          }}
        />
        <ul id="palette-list" role="listbox" aria-label="Found" className="max-h-[50vh] overflow-y-auto py-1">
          {found.map((act, i) => (
            <li
              key={`${act.path} ${act.word}`}
              id={`palette-${i}`}
              role="option"
              aria-selected={i === at}
              className={`flex min-h-8 cursor-pointer items-center gap-2 px-4 ${i === at ? "is-selected" : ""}`}
              onClick={() => choose(act)}
              onMouseMove={() => setAt(i)}
            >
              {act.state && <StateMark state={act.state} />}
              <span className="font-semibold">{act.word}</span>
              <span className="ml-auto text-[12.5px] text-second">{act.note}</span>
            </li>
          ))}
          {found.length === 0 && <li className="px-4 py-2 text-second">Nothing is called that.</li>}
        </ul>
        <p className="flex gap-3 border-t border-line px-4 py-1.5 text-[12px] text-second">
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
