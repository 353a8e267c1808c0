import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { api, got } from "../../api/client";
import { ofFences } from "../../api/queries";
import { ident, named, useAddress } from "../../parts/address";
import { Heading, Trouble } from "../../parts/basics";
import { useKeys } from "../../parts/keys";
import { useLookback } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { counted } from "../../parts/words";
import { MapChart } from "./chart";
import { DevicePanel } from "./device-panel";
import { FenceEditor } from "./fence-editor";
import { FencePanel } from "./fence-panel";
import { FileBox } from "./file";
import { Overview } from "./overview";
import { ofGround, ofMap, ofTrack } from "./queries";
import { type Corner, type Drawing, type Feature, type Shape, shapeOf } from "./shape";

const ADDRESS = { device: named, fence: ident };

/** The map: where devices are, the areas that conditions speak of, and both in words beside it. */
export default function Places() {
  const lookback = useLookback();
  const engineer = useMay("engineer") && lookback.live;
  const client = useQueryClient();
  const [{ device: chosen, fence: fenceId }, putBoth] = useAddress(ADDRESS);
  const map = useQuery(ofMap(lookback));
  const ground = useQuery(ofGround());
  const fences = useQuery(ofFences(lookback));
  const track = useQuery(ofTrack(chosen, lookback));
  const [drawing, setDrawing] = useState<Drawing | null>(null);
  const [corner, setCorner] = useState<[number, number] | null>(null);
  const [bringing, setBringing] = useState(false);
  const began = useRef(false);
  const [go, setGo] = useState<{ at: Corner | null; bounds: Corner[] | null; number: number }>({
    at: null,
    bounds: null,
    number: 0,
  });
  const devices = useMemo(() => map.data?.devices ?? [], [map.data]);
  const all = useMemo(() => fences.data?.results ?? [], [fences.data]);
  const device = devices.find((d) => d.name === chosen) ?? null;
  const fence = all.find((f) => f.id === fenceId) ?? null;
  if (!began.current && map.data && fences.data) {
    began.current = true;
    const target = device ? [[device.latitude, device.longitude] as Corner] : null;
    const bounds = fence
      ? cornersOf(shapeOf(fence.feature as Feature))
      : [
          ...devices.map((d): Corner => [d.latitude, d.longitude]),
          ...map.data.sites.map((s): Corner => [s.latitude, s.longitude]),
        ];
    setGo({ at: target?.[0] ?? null, bounds: target ? null : bounds, number: 1 });
  }
  const put = (next: { device?: string | null; fence?: number | null }) =>
    putBoth({ device: null, fence: null, ...next });
  const look = (at: Corner) => setGo({ at, bounds: null, number: go.number + 1 });
  const begin = (shape: Shape) => {
    put({});
    setCorner(null);
    setDrawing({
      id: null,
      revision: null,
      name: "",
      shape,
      properties: {},
      ring: "centre" in shape ? null : 0,
    });
  };
  const change = (shape: Shape) => setDrawing((old) => old && { ...old, shape });
  const draw = (at: Corner) =>
    setDrawing((old) => {
      if (!old) return old;
      if ("centre" in old.shape) return { ...old, shape: { ...old.shape, centre: at } };
      if (old.ring === null) return old;
      const rings = old.shape.rings.map((r, k) => (k === old.ring ? { ...r, corners: [...r.corners, at] } : r));
      return { ...old, shape: { rings } };
    });
  const setHome = useMutation({
    mutationFn: ({ name, at }: { name: string; title: string; at: Corner; was: Corner }) =>
      got(
        api.PATCH("/api/v1/devices/{name}", {
          params: { path: { name } },
          body: { latitude: at[0], longitude: at[1] },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["map"] }),
  });
  useKeys({
    Escape: () => {
      if (drawing?.ring !== null && drawing) setDrawing({ ...drawing, ring: null });
      else if (!drawing) put({});
    },
  });
  const home = useMemo(
    () =>
      device?.home && !drawing && ((device.away_m ?? 0) > 15 || map.data?.swing_m[device.type])
        ? {
            at: device.home as Corner,
            radius: map.data?.swing_m[device.type] ?? null,
            move: engineer
              ? (at: Corner) =>
                  setHome.mutate({ name: device.name, title: device.title, at, was: device.home as Corner })
              : null,
          }
        : null,
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [device, drawing, map.data, engineer],
  );
  const points = useMemo(
    () => (track.data && chosen ? (track.data.points as [number, number, number][]) : NO_TRACK),
    [track.data, chosen],
  );
  return (
    <div className="places-screen">
      <Heading
        title="Places"
        about={
          map.data && (
            <>
              {counted(devices.length, "device")} on the map
              {map.data.without > 0 && `, ${map.data.without} of unknown place`}
              {map.data.cut && ", the first 5,000"}
            </>
          )
        }
      >
        {engineer && !drawing && (
          <>
            <button type="button" className="button" onClick={() => setBringing(true)}>
              GeoJSON in or out
            </button>
            <button
              type="button"
              className="button"
              onClick={() => {
                const at = go.at ?? centreOf(devices);
                begin({ centre: at, radius: 200 });
              }}
            >
              Draw a circle
            </button>
            <button
              type="button"
              className="button strong"
              onClick={() => begin({ rings: [{ part: 0, hole: false, corners: [] }] })}
            >
              Draw a fence
            </button>
          </>
        )}
      </Heading>
      <Trouble error={map.error ?? fences.error ?? ground.error ?? setHome.error} />
      {setHome.data && (
        <p role="status" className="mb-2">
          The home of {setHome.variables.title} was moved.{" "}
          <button
            type="button"
            className="link"
            onClick={() => {
              const { name, title, at, was } = setHome.variables;
              setHome.mutate({ name, title, at: was, was: at });
            }}
          >
            put back
          </button>
        </p>
      )}
      {bringing && <FileBox close={() => setBringing(false)} />}
      <div className="places-desk">
        <section className="places-map" aria-label="Map of devices and fences">
          <MapChart
            ground={ground.data}
            tiles={map.data?.tiles ?? null}
            devices={devices}
            chosen={chosen}
            choose={(name) => !drawing && put({ device: name })}
            fences={all}
            fence={drawing?.id ?? fenceId}
            chooseFence={(id) => !drawing && put({ fence: id })}
            shape={drawing?.shape ?? null}
            corner={corner}
            setCorner={setCorner}
            change={change}
            draw={draw}
            drawing={drawing !== null && drawing.ring !== null}
            track={points}
            home={home}
            go={go}
          />
        </section>
        <aside className="places-side" aria-label="In words">
          {drawing ? (
            <FenceEditor
              key={drawing.id ?? "new"}
              drawing={drawing}
              setDrawing={setDrawing}
              corner={corner}
              setCorner={setCorner}
              saved={all.find((f) => f.id === drawing.id) ?? null}
              done={(id) => {
                setDrawing(null);
                put({ fence: id });
              }}
            />
          ) : fence ? (
            <FencePanel
              fence={fence}
              engineer={engineer}
              close={() => put({})}
              choose={(name) => put({ device: name })}
              edit={(feature) => {
                setCorner(null);
                setDrawing({
                  id: fence.id,
                  revision: fence.revision,
                  name: fence.name,
                  shape: shapeOf(feature),
                  properties: feature.properties ?? {},
                  ring: null,
                });
              }}
            />
          ) : device ? (
            <DevicePanel device={device} track={track.data ?? null} look={look} close={() => put({})} />
          ) : (
            <Overview
              devices={devices}
              fences={all}
              choose={(name) => {
                const found = devices.find((d) => d.name === name);
                put({ device: name });
                if (found) look([found.latitude, found.longitude]);
              }}
              chooseFence={(id) => {
                const found = all.find((f) => f.id === id);
                put({ fence: id });
                if (found)
                  setGo({ at: null, bounds: cornersOf(shapeOf(found.feature as Feature)), number: go.number + 1 });
              }}
            />
          )}
        </aside>
      </div>
    </div>
  );
}

const NO_TRACK: [number, number, number][] = [];

/** Corners that a shape lies between. */
function cornersOf(shape: Shape): Corner[] {
  if (!("centre" in shape)) return shape.rings.flatMap((r) => r.corners);
  const wide = shape.radius / 111_195;
  const [lat, lon] = shape.centre;
  const east = wide / Math.max(Math.cos((lat * Math.PI) / 180), 0.01);
  return [
    [lat - wide, lon - east],
    [lat + wide, lon + east],
  ];
}

function centreOf(devices: { latitude: number; longitude: number }[]): Corner {
  if (!devices.length) return [0, 0];
  const mean = (of: (d: { latitude: number; longitude: number }) => number) =>
    Number((devices.reduce((n, d) => n + of(d), 0) / devices.length).toFixed(5));
  return [mean((d) => d.latitude), mean((d) => d.longitude)];
}
