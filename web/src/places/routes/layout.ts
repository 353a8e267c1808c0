import type { Schemas } from "../../api/client";

type Flow = Schemas["FlowOut"];
export type Box = {
  id: string;
  title: string;
  short: string;
  count: number;
  blocked: boolean;
  x: number;
  y: number;
  height: number;
  /** Whether its name stands before it. */
  end: boolean;
};
export type Band = { source: string; target: string; count: number; words: string; blocked: boolean; path: string };

const GAP = 9;
const LEAST = 12; // of a box, so that its name has room
const MIDDLE = 0.36; // of the width, where the routes stand
const LETTER = 6.4; // px, at most, of most of them

const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

/**
 * Three columns: types, routes, and what readings come to. A box is as high as what goes through it; few are not
 * invisible beside many, since heights follow the square root.
 */
export function flowLayout(flow: Flow, wide: number, tall: number): { boxes: Box[]; bands: Band[] } {
  const sums = new Map<string, number>();
  for (const link of flow.links) {
    if (!link.count) continue;
    sums.set(link.target, (sums.get(link.target) ?? 0) + link.count);
  }
  const columns: { id: string; title: string; count: number; blocked: boolean }[][] = [[], [], []];
  for (const node of flow.nodes) {
    const at = node.kind === "type" ? 0 : node.kind === "route" ? 1 : 2;
    const used = flow.links.some((l) => l.count > 0 && (l.source === node.id || l.target === node.id));
    if (used) columns[at]!.push(node);
  }
  for (const word of ["dropped", "thinned out"]) {
    const count = sums.get(word);
    if (count) columns[2]!.push({ id: word, title: word, count, blocked: false });
  }
  const boxes: Box[] = [];
  // Names of routes and of what follows share what is right of the middle: none reaches into another.
  const letters = Math.max(8, Math.floor((wide * (1 - MIDDLE) - 24) / 2 / LETTER));
  columns.forEach((listed, column) => {
    const room = tall - GAP * Math.max(listed.length - 1, 0) - LEAST * listed.length;
    const roots = listed.map((node) => Math.sqrt(node.count));
    const whole = roots.reduce((a, b) => a + b, 0) || 1;
    let y = 0;
    listed.forEach((node, i) => {
      const height = LEAST + Math.max(room, 0) * Math.min(((roots[i] ?? 0) / whole) * 0.8, 0.45);
      boxes.push({
        ...node,
        short: cut(node.title, column === 0 ? 17 : letters),
        x: column === 0 ? 0 : column === 1 ? wide * MIDDLE : wide - 5,
        y,
        height,
        end: column === 2,
      });
      y += height + GAP;
    });
  });
  const at = new Map(boxes.map((box) => [box.id, box]));
  const used = new Map<string, number>(); // of each side of a box, how much of it is taken
  const bands: Band[] = [];
  for (const side of flow.links) {
    const a = at.get(side.source);
    const b = at.get(side.target);
    if (!a || !b || !side.count) continue;
    const out = flow.links.filter((l) => l.source === side.source).reduce((n, l) => n + l.count, 0) || 1;
    const into = flow.links.filter((l) => l.target === side.target).reduce((n, l) => n + l.count, 0) || 1;
    const from = (a.height * side.count) / out;
    const to = (b.height * side.count) / into;
    const y1 = a.y + (used.get(`${side.source}>`) ?? 0);
    const y2 = b.y + (used.get(`>${side.target}`) ?? 0);
    used.set(`${side.source}>`, y1 - a.y + from);
    used.set(`>${side.target}`, y2 - b.y + to);
    const x1 = a.x + 5;
    const mid = (x1 + b.x) / 2;
    bands.push({
      source: side.source,
      target: side.target,
      count: side.count,
      blocked: b.blocked,
      words: `${a.title} to ${b.title}, ${side.what}`,
      path:
        `M${x1},${y1} C${mid},${y1} ${mid},${y2} ${b.x},${y2} L${b.x},${y2 + to}` +
        ` C${mid},${y2 + to} ${mid},${y1 + from} ${x1},${y1 + from} Z`,
    });
  }
  return { boxes, bands };
}
