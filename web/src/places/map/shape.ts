/** The shape of a fence while it is changed: rings of corners, or a circle. Latitude comes first, as people say it. */
export type Corner = [number, number];
export type Ring = { part: number; hole: boolean; corners: Corner[] };
export type Shape = { rings: Ring[] } | { centre: Corner; radius: number };
export type Feature = {
  type: "Feature";
  geometry: { type: string; coordinates: unknown };
  properties: Record<string, unknown>;
};

const EARTH = 6_371_008.8;
const DEGREE = (Math.PI / 180) * EARTH;

/** Nine digits: a tenth of a millimetre. */
const short = (n: number) => Number(n.toFixed(9));
/** Five digits are a metre; what a hand has drawn is no finer. */
export const drawn = ([lat, lon]: Corner): Corner => [Number(lat.toFixed(6)), Number(lon.toFixed(6))];

export function shapeOf(feature: { geometry?: unknown; properties?: unknown }): Shape {
  const geometry = feature.geometry as { type: string; coordinates: unknown };
  if (geometry.type === "Point") {
    const [lon, lat] = geometry.coordinates as Corner;
    const properties = feature.properties as { radius_m?: number } | undefined;
    return { centre: [lat, lon], radius: Number(properties?.radius_m ?? 0) };
  }
  const parts = (geometry.type === "Polygon" ? [geometry.coordinates] : geometry.coordinates) as [number, number][][][];
  return {
    rings: parts.flatMap((rings, part) =>
      rings.map((ring, n) => ({
        part,
        hole: n > 0,
        corners: ring.slice(0, -1).map(([lon, lat]): Corner => [lat, lon]),
      })),
    ),
  };
}

export function featureOf(shape: Shape, properties: Record<string, unknown> = {}): Feature {
  if ("centre" in shape) {
    const [lat, lon] = shape.centre;
    const geometry = { type: "Point", coordinates: [short(lon), short(lat)] };
    return { type: "Feature", geometry, properties: { ...properties, radius_m: shape.radius } };
  }
  const kept = Object.fromEntries(Object.entries(properties).filter(([key]) => key !== "radius_m"));
  const parts = new Map<number, number[][][]>();
  for (const ring of [...shape.rings].sort((a, b) => Number(a.hole) - Number(b.hole))) {
    const closed = [...ring.corners, ring.corners[0] as Corner].map(([lat, lon]) => [short(lon), short(lat)]);
    parts.set(ring.part, [...(parts.get(ring.part) ?? []), closed]);
  }
  const all = [...parts.values()];
  const geometry =
    all.length === 1 ? { type: "Polygon", coordinates: all[0] } : { type: "MultiPolygon", coordinates: all };
  return { type: "Feature", geometry, properties: kept };
}

/** Why a shape cannot be a fence yet; null where it can. */
export function unfinished(shape: Shape): string | null {
  if ("centre" in shape) return shape.radius > 0 ? null : "The radius is above 0 m.";
  if (!shape.rings.some((r) => !r.hole)) return "Press at least three corners on the map, or write them.";
  const few = shape.rings.find((r) => r.corners.length < 3);
  return few ? `${few.hole ? "A hole" : "An outline"} has at least three corners, found ${few.corners.length}.` : null;
}

/** A corner moved by metres to the north and to the east. */
export const moved = ([lat, lon]: Corner, north: number, east: number): Corner =>
  drawn([lat + north / DEGREE, lon + east / (DEGREE * Math.max(Math.cos((lat * Math.PI) / 180), 1e-6))]);

export function metres(a: Corner, b: Corner): number {
  const north = (b[0] - a[0]) * DEGREE;
  const east = (b[1] - a[1]) * DEGREE * Math.cos((((a[0] + b[0]) / 2) * Math.PI) / 180);
  return Math.hypot(north, east);
}

export const between = (a: Corner, b: Corner): Corner => drawn([(a[0] + b[0]) / 2, (a[1] + b[1]) / 2]);

/** A shape with one corner put elsewhere, taken out (null), or with one put in behind it. */
export function withCorner(shape: Shape, ring: number, n: number, corner: Corner | null, insert = false): Shape {
  if ("centre" in shape) return shape;
  return {
    rings: shape.rings.map((r, k) => {
      if (k !== ring) return r;
      const corners = [...r.corners];
      if (corner === null) corners.splice(n, 1);
      else corners.splice(insert ? n + 1 : n, insert ? 0 : 1, corner);
      return { ...r, corners };
    }),
  };
}

/** "37.43561 −42.61230", or with a comma, as a corner. */
export function read(text: string): Corner | null {
  const found = text
    .replace(/\u2212/g, "-")
    .match(/-?\d+(?:\.\d+)?/g)
    ?.map(Number);
  if (found?.length !== 2) return null;
  const [lat, lon] = found as Corner;
  return Math.abs(lat) <= 90 && Math.abs(lon) <= 180 ? [lat, lon] : null;
}

export const said = ([lat, lon]: Corner) => `${lat.toFixed(5)} ${lon.toFixed(5)}`.replace(/-/g, "\u2212");

export const sizeWord = (m2: number) =>
  m2 >= 1e5 ? `${Number((m2 / 1e6).toPrecision(3))} km²` : `${Math.round(m2).toLocaleString("en")} m²`;

export function shapeWord(shape: Shape): string {
  if ("centre" in shape) return `Circle of ${shape.radius.toLocaleString("en")} m`;
  const outlines = shape.rings.filter((r) => !r.hole);
  const holes = shape.rings.length - outlines.length;
  const corners = outlines.reduce((n, r) => n + r.corners.length, 0);
  const parts = outlines.length > 1 ? ` in ${outlines.length} parts` : "";
  return `Area of ${corners} corners${parts}${holes ? `, with ${holes === 1 ? "a hole" : `${holes} holes`}` : ""}`;
}

/** A fence that is being changed, or drawn. id: null for one that is not there yet. ring: where corners go next. */
export type Drawing = {
  id: number | null;
  revision: number | null;
  name: string;
  shape: Shape;
  properties: Record<string, unknown>;
  ring: number | null;
};
