import L from "leaflet";
import "leaflet/dist/leaflet.css";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { STATE_WORDS } from "../../parts/marks";
import { MarksLayer, type MapDevice } from "./marks-layer";
import { between, type Corner, drawn, metres, moved, type Shape, withCorner } from "./shape";

export type Fence = Schemas["FenceOut"];
type Ground = GeoJSON.FeatureCollection;
const FIRST = 13;
const NAMED_FROM = 11; // farther away the names of land would lie over each other

/** Hatching for fences: a pattern that paths of this page are filled with. */
const Hatching = () => (
  <svg width="0" height="0" className="absolute" aria-hidden>
    <defs>
      <pattern id="fence-hatch" width="8" height="8" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line x1="0" y1="0" x2="0" y2="8" stroke="var(--ink)" strokeWidth="1" strokeOpacity="0.3" />
      </pattern>
    </defs>
  </svg>
);

/** Land and water, fences, devices, the way of the chosen one; the corners of a fence that is being changed. */
export function MapChart({
  ground,
  tiles,
  devices,
  chosen,
  choose,
  fences,
  fence,
  chooseFence,
  shape,
  corner,
  setCorner,
  change,
  draw,
  drawing,
  track,
  home,
  go,
}: {
  ground: Ground | undefined;
  tiles: Schemas["MapTiles"] | null;
  devices: MapDevice[];
  chosen: string | null;
  choose: (device: string | null) => void;
  fences: Fence[];
  fence: number | null;
  chooseFence: (id: number) => void;
  shape: Shape | null;
  corner: [number, number] | null;
  setCorner: (corner: [number, number] | null) => void;
  change: (shape: Shape) => void;
  draw: (at: Corner) => void;
  drawing: boolean;
  track: [number, number, number][];
  home: { at: Corner; radius: number | null; move: ((to: Corner) => void) | null } | null;
  go: { at: Corner | null; bounds: Corner[] | null; number: number };
}) {
  const box = useRef<HTMLDivElement>(null);
  const map = useRef<L.Map | null>(null);
  const marks = useRef(new MarksLayer());
  const ready = go.number > 0; // before the map knows where to look, nothing can be put on it
  const [hover, setHover] = useState<{ x: number; y: number; members: MapDevice[] } | null>(null);
  const now = useRef({ choose, chooseFence, draw, drawing, change, setCorner, shape });
  now.current = { choose, chooseFence, draw, drawing, change, setCorner, shape };

  useEffect(() => {
    if (!box.current) return;
    const made = L.map(box.current, {
      zoomAnimation: false,
      fadeAnimation: false,
      markerZoomAnimation: false,
      attributionControl: false,
      zoomControl: false,
      minZoom: 2,
      maxZoom: 19,
      worldCopyJump: true,
    });
    L.control.zoom({ position: "topright", zoomInTitle: "nearer", zoomOutTitle: "farther" }).addTo(made);
    L.control.scale({ imperial: false, position: "bottomright" }).addTo(made);
    made.createPane("ground").style.zIndex = "200";
    made.createPane("names").style.zIndex = "210";
    made.createPane("fences").style.zIndex = "390";
    made.createPane("home").style.zIndex = "395";
    marks.current.addTo(made);
    made.on("click", (event: L.LeafletMouseEvent) => {
      if (now.current.drawing) return now.current.draw(drawn([event.latlng.lat, event.latlng.lng]));
      const found = marks.current.at(event.containerPoint);
      if (found.length === 1) now.current.choose((found[0] as MapDevice).name);
      else if (found.length) made.fitBounds(L.latLngBounds(found.map((d) => [d.latitude, d.longitude])).pad(0.3));
      else now.current.choose(null);
    });
    made.on("mousemove", (event: L.LeafletMouseEvent) => {
      const found = now.current.drawing ? [] : marks.current.at(event.containerPoint);
      setHover(found.length ? { x: event.containerPoint.x, y: event.containerPoint.y, members: found } : null);
    });
    made.on("mouseout movestart", () => setHover(null));
    const size = new ResizeObserver(() => made.invalidateSize({ animate: false }));
    size.observe(box.current);
    const look = new MutationObserver(() => marks.current.draw());
    look.observe(document.documentElement, { attributeFilter: ["data-ground"] });
    map.current = made;
    return () => {
      size.disconnect();
      look.disconnect();
      made.remove();
      map.current = null;
    };
  }, []);

  useEffect(() => {
    const own = map.current;
    if (!own || go.number === 0) return; // nothing is known of where to look
    if (go.bounds?.length) own.fitBounds(L.latLngBounds(go.bounds).pad(0.12), { animate: false, maxZoom: 15 });
    else if (go.at) own.setView(go.at, Math.max(own.getZoom() ?? FIRST, FIRST), { animate: false });
    else own.setView([20, 0], 2);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [go.number]);

  useEffect(() => {
    const own = map.current;
    if (!own || !ground || !ready) return;
    const land = L.geoJSON(ground, {
      pane: "ground",
      interactive: false,
      style: { className: "map-land", weight: 1 },
    } as L.GeoJSONOptions).addTo(own);
    const names = ground.features
      .filter((f) => f.properties?.name && f.properties.at)
      .map((f) =>
        L.marker([f.properties!.at[1], f.properties!.at[0]], {
          pane: "names",
          interactive: false,
          keyboard: false,
          icon: L.divIcon({ className: "map-name", html: "", iconSize: [160, 16] }),
        }).addTo(own),
      );
    ground.features
      .filter((f) => f.properties?.name && f.properties.at)
      .forEach((f, n) => {
        const element = names[n]?.getElement();
        if (element) element.textContent = String(f.properties?.name);
      });
    const near = () => {
      const pane = own.getPane("names");
      if (pane) pane.style.display = own.getZoom() >= NAMED_FROM ? "" : "none";
    };
    own.on("zoomend", near);
    return () => {
      own.off("zoomend", near);
      land.remove();
      names.forEach((n) => n.remove());
    };
  }, [ground, ready]);

  useEffect(() => {
    const own = map.current;
    if (!own || !tiles || !ready) return;
    const layer = L.tileLayer(tiles.url, { maxZoom: 19 }).addTo(own);
    return () => void layer.remove();
  }, [tiles, ready]);

  useEffect(() => {
    if (map.current?.getZoom() !== undefined) marks.current.show(devices, chosen);
  }, [devices, chosen, go.number]);

  useEffect(() => {
    const own = map.current;
    if (!own || !ready) return;
    const layers = fences.flatMap((f) => {
      if (f.id === fence && shape) return []; // it is drawn as it is being changed
      const { geometry, properties } = f.feature as { geometry: GeoJSON.Geometry; properties?: { radius_m?: number } };
      const look = { pane: "fences", className: `map-fence ${f.id === fence ? "is-chosen" : ""}`, weight: 1.5 };
      const layer: L.Layer =
        geometry.type === "Point"
          ? L.circle([geometry.coordinates[1] as number, geometry.coordinates[0] as number], {
              ...look,
              radius: properties?.radius_m ?? 0,
            })
          : L.geoJSON(geometry, { pane: "fences", style: look } as L.GeoJSONOptions);
      layer.on("click", (event: L.LeafletMouseEvent) => {
        if (now.current.drawing || marks.current.at(event.containerPoint).length) return;
        L.DomEvent.stop(event);
        now.current.chooseFence(f.id);
      });
      return [layer.addTo(own)];
    });
    return () => layers.forEach((layer) => layer.remove());
  }, [fences, fence, shape, ready]);

  useEffect(() => {
    const own = map.current;
    if (!own || !shape || !ready) return;
    let paths: L.Layer[] = [];
    const outline = (of: Shape) => {
      paths.forEach((path) => path.remove());
      paths = pathsOf(of).map((path) => path.addTo(own));
    };
    outline(shape);
    const handles = handlesOf(shape).map(({ at, key, title, put }) => {
      const marker = cornerMark(at, title, corner?.[0] === key[0] && corner[1] === key[1]);
      marker.on("drag", () => outline(put(place(marker)))); // the handles follow when it is let go
      marker.on("dragend", () => {
        now.current.setCorner(key);
        now.current.change(put(place(marker)));
      });
      marker.on("click", () => now.current.setCorner(key));
      return marker.addTo(own);
    });
    const middles = middlesOf(shape).map(({ at, key }) => {
      const icon = L.divIcon({ className: "map-middle", iconSize: [12, 12] });
      const marker = L.marker(at, { keyboard: false, title: "press to put a corner in", icon });
      marker.on("click", () => {
        now.current.change(withCorner(shape, key[0], key[1], at, true));
        now.current.setCorner([key[0], key[1] + 1]);
      });
      return marker.addTo(own);
    });
    return () => [...paths, ...handles, ...middles].forEach((layer) => layer.remove());
  }, [shape, corner, ready]);

  useEffect(() => {
    const own = map.current;
    if (!own || !track.length || !ready) return;
    const way = L.polyline(
      track.map(([lat, lon]) => [lat, lon] as Corner),
      { pane: "fences", className: "map-way", weight: 1.8, interactive: false },
    ).addTo(own);
    return () => void way.remove();
  }, [track, ready]);

  useEffect(() => {
    const own = map.current;
    if (!own || !home || !ready) return;
    const layers: L.Layer[] = [];
    if (home.radius)
      layers.push(
        L.circle(home.at, { pane: "home", className: "map-swing", weight: 1, radius: home.radius, interactive: false }),
      );
    const marker = L.marker(home.at, {
      draggable: home.move !== null,
      keyboard: false,
      title: "home; drag it to where the device belongs",
      icon: L.divIcon({ className: "map-home", iconSize: [14, 14] }),
    });
    marker.on("dragend", () => home.move?.(place(marker)));
    layers.push(marker);
    layers.forEach((layer) => layer.addTo(own));
    return () => layers.forEach((layer) => layer.remove());
  }, [home, ready]);

  return (
    <div className="relative h-full min-h-72">
      <Hatching />
      <div ref={box} className={`map-box h-full ${drawing ? "is-drawing" : ""}`} aria-label="Map" role="application" />
      {tiles?.words && (
        <span className="absolute bottom-1 left-2 z-[500] bg-paper px-1 text-[11.5px] text-second">{tiles.words}</span>
      )}
      {hover && (
        <div
          className="pointer-events-none absolute z-[500] max-w-64 border border-line bg-raised px-2 py-1 text-[12.5px]"
          style={{ left: hover.x + 14, top: hover.y + 10 }}
        >
          {hover.members.length === 1 ? (
            <Told device={hover.members[0] as MapDevice} />
          ) : (
            <>
              <b>{hover.members.length} devices</b> · press to come nearer
            </>
          )}
        </div>
      )}
    </div>
  );
}

/** A handle of a fence: moved by pointer here, by keys in the table of corners. */
function cornerMark(at: Corner, title: string, chosen: boolean): L.Marker {
  return L.marker(at, {
    draggable: true,
    keyboard: false,
    title,
    icon: L.divIcon({ className: `map-corner ${chosen ? "is-chosen" : ""}`, iconSize: [13, 13] }),
    zIndexOffset: 1000,
  });
}

type Handle = { at: Corner; key: [number, number]; title: string; put: (to: Corner) => Shape };

function handlesOf(shape: Shape): Handle[] {
  if (!("centre" in shape))
    return shape.rings.flatMap((ring, k) =>
      ring.corners.map((at, n) => ({
        at,
        key: [k, n] as [number, number],
        title: `corner ${n + 1}`,
        put: (to: Corner) => withCorner(shape, k, n, to),
      })),
    );
  const { centre, radius } = shape;
  return [
    { at: centre, key: [0, 0], title: "centre", put: (to) => ({ centre: to, radius }) },
    {
      at: moved(centre, 0, radius),
      key: [0, 1],
      title: "radius",
      put: (to) => ({ centre, radius: Math.max(Math.round(metres(centre, to)), 1) }),
    },
  ];
}

/** The middles of edges, where a corner can be put in. */
function middlesOf(shape: Shape): { at: Corner; key: [number, number] }[] {
  if ("centre" in shape) return [];
  return shape.rings.flatMap((ring, k) =>
    ring.corners.length < 3
      ? []
      : ring.corners.map((at, n) => ({
          at: between(at, ring.corners[(n + 1) % ring.corners.length] as Corner),
          key: [k, n] as [number, number],
        })),
  );
}

function pathsOf(shape: Shape): L.Layer[] {
  const look = { pane: "fences", className: "map-fence is-changed", weight: 2, interactive: false };
  if ("centre" in shape) return [L.circle(shape.centre, { ...look, radius: shape.radius })];
  return shape.rings
    .filter((ring) => !ring.hole)
    .map((ring) => {
      const holes = shape.rings.filter((r) => r.hole && r.part === ring.part).map((r) => r.corners);
      return ring.corners.length > 2
        ? L.polygon([ring.corners, ...holes], look)
        : L.polyline(ring.corners, { ...look, className: "map-way" });
    });
}

function place(marker: L.Marker): Corner {
  const { lat, lng } = marker.getLatLng();
  return drawn([lat, lng]);
}

function Told({ device: d }: { device: MapDevice }) {
  return (
    <>
      <b>{d.title}</b>
      <br />
      {STATE_WORDS[d.state] ?? d.state}
      {d.priority && `, ${d.priority} alarm${d.taken ? "" : ", not taken"}`}
      {d.away_m !== null && d.away_m !== undefined && d.away_m > 1 && <>, {Math.round(d.away_m)} m from home</>}
    </>
  );
}
