import L from "leaflet";
import type { Schemas } from "../../api/client";
import { colour } from "../../parts/canvas";

export type MapDevice = Schemas["MapDevice"];
type Group = { x: number; y: number; members: MapDevice[] };

const CELL = 26; // px: marks nearer to each other than this stand as a group
const CROWD = 4; // so many of them are a group
const RANK = ["critical", "high", "medium", "low"];
const FILL: Record<string, number> = { critical: 1, high: 0.75, medium: 0.5, low: 0.25 };
const rank = (d: MapDevice) => (d.priority ? RANK.indexOf(d.priority) : 9);

/**
 * All devices on one canvas: a ring by state, a square where an alarm is open, a number where many stand together;
 * words only at what is chosen or in alarm. It is drawn anew when the map has come to rest, and moves with it until
 * then.
 */
export class MarksLayer extends L.Layer {
  private canvas = document.createElement("canvas");
  private devices: MapDevice[] = [];
  private chosen: string | null = null;
  private groups: Group[] = [];
  private map: L.Map | null = null;
  private corner = L.point(0, 0);

  onAdd(map: L.Map): this {
    this.map = map;
    this.canvas.className = "leaflet-zoom-hide";
    this.canvas.style.position = "absolute";
    this.canvas.style.pointerEvents = "none";
    map.getPanes().overlayPane.appendChild(this.canvas);
    map.on("moveend zoomend resize viewreset", this.draw, this);
    this.draw();
    return this;
  }

  onRemove(map: L.Map): this {
    this.canvas.remove();
    map.off("moveend zoomend resize viewreset", this.draw, this);
    this.map = null;
    return this;
  }

  show(devices: MapDevice[], chosen: string | null): void {
    this.devices = devices;
    this.chosen = chosen;
    this.draw();
  }

  /** What stands at a place of the map's box: a device, or several as a group. */
  at(point: L.Point): MapDevice[] {
    let best: Group | null = null;
    let nearest = 14;
    for (const group of this.groups) {
      const away = Math.hypot(group.x - point.x, group.y - point.y);
      if (away < nearest) [best, nearest] = [group, away];
    }
    return best?.members ?? [];
  }

  draw = (): void => {
    const map = this.map;
    if (!map) return;
    const size = map.getSize();
    const edge = Math.round(Math.max(size.x, size.y) * 0.25); // what comes into view while it is moved
    const ratio = window.devicePixelRatio || 1;
    const [wide, high] = [size.x + 2 * edge, size.y + 2 * edge];
    this.canvas.width = wide * ratio;
    this.canvas.height = high * ratio;
    this.canvas.style.width = `${wide}px`;
    this.canvas.style.height = `${high}px`;
    this.corner = map.containerPointToLayerPoint([-edge, -edge]);
    L.DomUtil.setPosition(this.canvas, this.corner);
    const pen = this.canvas.getContext("2d");
    if (!pen) return;
    pen.scale(ratio, ratio);
    pen.translate(edge, edge);
    this.groups = this.grouped(map, L.bounds([-edge, -edge], [size.x + edge, size.y + edge]));
    const words: { group: Group; text: string }[] = [];
    for (const group of this.groups) {
      const own = group.members.find((d) => d.name === this.chosen);
      if (group.members.length > 1) this.crowd(pen, group, Boolean(own));
      else this.one(pen, group, group.members[0] as MapDevice, Boolean(own));
      const said = own ?? (group.members.length === 1 && rank(group.members[0]!) < 9 ? group.members[0] : null);
      if (said) words.push({ group, text: said.title });
    }
    this.label(pen, words);
  };

  /** Devices in view, those that stand too near to each other together. */
  private grouped(map: L.Map, view: L.Bounds): Group[] {
    const cells = new Map<string, Group>();
    const placed: { d: MapDevice; p: L.Point; key: string }[] = [];
    for (const d of this.devices) {
      const p = map.latLngToContainerPoint([d.latitude, d.longitude]);
      if (!view.contains(p)) continue;
      const key = `${Math.floor(p.x / CELL)} ${Math.floor(p.y / CELL)}`;
      placed.push({ d, p, key });
      const cell = cells.get(key);
      if (cell) cell.members.push(d);
      else cells.set(key, { x: 0, y: 0, members: [d] });
    }
    const found: Group[] = [];
    const done = new Set<string>();
    const near = map.getZoom() >= map.getMaxZoom() - 1;
    for (const { d, p, key } of placed) {
      const cell = cells.get(key) as Group;
      if (near || cell.members.length < CROWD) found.push({ x: p.x, y: p.y, members: [d] });
      else if (!done.has(key)) {
        done.add(key);
        const own = placed.filter((one) => one.key === key);
        const [x, y] = [0, 1].map((k) => own.reduce((n, o) => n + (k ? o.p.y : o.p.x), 0) / own.length);
        found.push({ x: x as number, y: y as number, members: cell.members });
      }
    }
    // What is in alarm lies above the rest, and what is chosen above all.
    const weight = (g: Group) =>
      g.members.some((d) => d.name === this.chosen) ? -1 : Math.min(...g.members.map(rank));
    return found.sort((a, b) => weight(b) - weight(a));
  }

  private one(pen: CanvasRenderingContext2D, { x, y }: Group, d: MapDevice, chosen: boolean): void {
    if (chosen) this.ground(pen, x, y, 13);
    pen.lineWidth = 1.6;
    pen.strokeStyle = colour("ink");
    pen.fillStyle = colour("paper");
    if (d.state === "silent") {
      pen.fillStyle = colour("ink");
      pen.fillRect(x - 5, y - 1.5, 10, 3);
    } else {
      pen.setLineDash(d.state === "waiting" ? [1.6, 2] : []);
      pen.beginPath();
      pen.arc(x, y, 4, 0, 2 * Math.PI);
      pen.fill();
      pen.stroke();
      pen.setLineDash([]);
      if (d.state === "overdue") {
        pen.fillStyle = colour("ink");
        pen.beginPath();
        pen.arc(x, y, 4, Math.PI / 2, (3 * Math.PI) / 2);
        pen.fill();
      }
      if (d.state === "undecodable") {
        pen.beginPath();
        pen.moveTo(x - 6, y + 6);
        pen.lineTo(x + 6, y - 6);
        pen.stroke();
      }
    }
    if (d.priority) this.square(pen, x + 10, y - 8, d.priority, d.taken);
  }

  private square(pen: CanvasRenderingContext2D, x: number, y: number, priority: string, taken: boolean): void {
    const hue = colour(priority);
    pen.fillStyle = colour("paper");
    pen.fillRect(x - 5, y - 5, 10, 10);
    pen.fillStyle = hue;
    const tall = 10 * (FILL[priority] ?? 0.25);
    pen.fillRect(x - 5, y + 5 - tall, 10, tall);
    pen.strokeStyle = hue;
    pen.lineWidth = 1.6;
    pen.strokeRect(x - 5, y - 5, 10, 10);
    if (taken) return;
    pen.fillStyle = colour("paper");
    pen.beginPath();
    pen.moveTo(x + 1, y - 6.5);
    pen.lineTo(x + 6.5, y - 6.5);
    pen.lineTo(x + 6.5, y - 1);
    pen.fill();
  }

  private crowd(pen: CanvasRenderingContext2D, { x, y, members }: Group, chosen: boolean): void {
    const text = String(members.length);
    pen.font = "600 11.5px 'Hanken Grotesk Variable', sans-serif";
    const wide = Math.max(pen.measureText(text).width + 10, 20);
    if (chosen) this.ground(pen, x, y, wide / 2 + 6);
    const troubled = members.some((d) => d.state !== "reporting");
    pen.fillStyle = colour("paper");
    pen.strokeStyle = colour("ink");
    pen.lineWidth = troubled ? 2.2 : 1.2;
    pen.beginPath();
    pen.roundRect(x - wide / 2, y - 9, wide, 18, 9);
    pen.fill();
    pen.stroke();
    pen.fillStyle = colour("ink");
    pen.textAlign = "center";
    pen.textBaseline = "middle";
    pen.fillText(text, x, y + 0.5);
    const worst = [...members].sort((a, b) => rank(a) - rank(b))[0];
    if (worst?.priority) {
      const same = members.filter((d) => d.priority === worst.priority);
      this.square(
        pen,
        x + wide / 2 + 3,
        y - 9,
        worst.priority,
        same.every((d) => d.taken),
      );
    }
  }

  private ground(pen: CanvasRenderingContext2D, x: number, y: number, radius: number): void {
    pen.fillStyle = colour("selected");
    pen.strokeStyle = colour("ink");
    pen.lineWidth = 1;
    pen.beginPath();
    pen.arc(x, y, radius, 0, 2 * Math.PI);
    pen.fill();
    pen.stroke();
  }

  /** Names, where there is room: what is worst first; one that would lie over another is left out. */
  private label(pen: CanvasRenderingContext2D, words: { group: Group; text: string }[]): void {
    const taken = this.groups.map((g): [number, number, number, number, Group?] => [
      g.x - 8,
      g.y - 8,
      g.x + 8,
      g.y + 8,
      g,
    ]);
    pen.font = "600 12px 'Hanken Grotesk Variable', sans-serif";
    pen.textAlign = "left";
    pen.textBaseline = "middle";
    for (const { group, text } of words.reverse()) {
      const wide = pen.measureText(text).width + 8;
      const box: [number, number, number, number] = [group.x + 17, group.y - 8, group.x + 17 + wide, group.y + 8];
      if (taken.some((b) => b[4] !== group && b[0] < box[2] && box[0] < b[2] && b[1] < box[3] && box[1] < b[3]))
        continue;
      taken.push(box);
      pen.fillStyle = colour("paper");
      pen.globalAlpha = 0.85;
      pen.fillRect(box[0], box[1], wide, 16);
      pen.globalAlpha = 1;
      pen.fillStyle = colour("ink");
      pen.fillText(text, box[0] + 4, group.y + 0.5);
    }
  }
}
