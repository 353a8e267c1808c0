import { DropdownMenu } from "radix-ui";
import type { Schemas } from "../../api/client";
import { look } from "../../parts/look";
import { titled } from "../../parts/units";
import { FIGURES, FIXED, MOST, NAMES, USUAL } from "./columns";

type Type = Schemas["TypeOut"];

/** Which columns are shown: figures, newest values of the type that is chosen, labels. */
export default function ColumnsMenu({
  chosen,
  change,
  type,
  types,
}: {
  chosen: string[];
  change: (next: string[]) => void;
  type: string;
  types: Type[];
}) {
  const fields = types.filter((t) => t.key === type).flatMap((t) => t.fields ?? []);
  const groups: [string, [string, string][]][] = [
    ["Of the list", [...FIXED].map((name) => [name, NAMES[name] ?? name])],
    ["Figures over the lookback", Object.entries(FIGURES)],
    [
      type ? "Newest values" : "Newest values: choose a type first",
      fields
        .filter((f) => ["number", "integer", "code", "text"].includes(f.kind))
        .map((f) => [`value:${f.name}`, titled(f.name, f.title)]),
    ],
    [
      "Labels",
      ["firmware", ...chosen.flatMap((c) => (c.startsWith("label:") ? [c.slice(6)] : []))]
        .filter((name, k, all) => all.indexOf(name) === k)
        .map((name) => [`label:${name}`, titled(name)]),
    ],
  ];
  const asked = chosen.filter((name) => !FIXED.has(name)).length;
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="button">Columns</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-30 max-h-[70vh] w-64 overflow-y-auto border border-edge bg-paper p-2"
        >
          {groups.map(([title, options]) => (
            <DropdownMenu.Group key={title} className="mb-2">
              <DropdownMenu.Label className="px-1 text-[12.5px] text-second">{title}</DropdownMenu.Label>
              {options.map(([name, word]) => (
                <DropdownMenu.CheckboxItem
                  key={name}
                  checked={chosen.includes(name)}
                  disabled={!chosen.includes(name) && !FIXED.has(name) && asked >= MOST}
                  onSelect={(event) => event.preventDefault()}
                  onCheckedChange={(on) => change(on ? [...chosen, name] : chosen.filter((other) => other !== name))}
                  className={look(
                    "flex min-h-7 items-center gap-2 px-1",
                    "data-[disabled]:text-third data-[highlighted]:bg-selected",
                  )}
                >
                  <span aria-hidden className="w-4">
                    {chosen.includes(name) ? "✓" : ""}
                  </span>
                  {word}
                </DropdownMenu.CheckboxItem>
              ))}
            </DropdownMenu.Group>
          ))}
          <DropdownMenu.Item
            className="min-h-7 px-1 underline data-[highlighted]:bg-selected"
            onSelect={() => change(USUAL)}
          >
            As at first
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
