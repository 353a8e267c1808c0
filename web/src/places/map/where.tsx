import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { ofFences } from "../../api/queries";
import { At } from "../../parts/basics";
import { useKept, useLookback } from "../../parts/lookback-state";
import { counted } from "../../parts/words";
import { MapChart } from "./chart";
import type { MapDevice } from "./marks-layer";
import { ofGround, ofTrack } from "./queries";
import { type Corner, metres, said } from "./shape";

type Device = Schemas["DeviceOut"];
const NOWHERE: never[] = [];
const nothing = () => {};

/** Where a device is known to be: measured, with the moment, or as it was given; null where neither is. */
function placeOf(d: Device): { at: Corner; measured: string | null } | null {
  const fix = d.values.find((v) => v.kind === "position" && Array.isArray(v.value));
  if (fix) return { at: fix.value as unknown as Corner, measured: fix.at };
  return d.latitude !== null && d.longitude !== null ? { at: [d.latitude, d.longitude], measured: null } : null;
}

/** A device on a small map: where it is, its way in the lookback, its home, and the fences around. */
export default function Where({ device: d }: { device: Device }) {
  const lookback = useLookback();
  const kept = useKept();
  const navigate = useNavigate();
  const ground = useQuery(ofGround());
  const fences = useQuery(ofFences(lookback));
  const track = useQuery(ofTrack(d.name, lookback));
  const place = placeOf(d);
  const [lat, lon] = place?.at ?? [null, null];
  const home = useMemo(
    () =>
      d.latitude !== null && d.longitude !== null && place?.measured
        ? { at: [d.latitude, d.longitude] as Corner, radius: null, move: null }
        : null,
    [d.latitude, d.longitude, place?.measured],
  );
  const devices = useMemo(
    (): MapDevice[] =>
      lat === null || lon === null
        ? NOWHERE
        : [
            {
              name: d.name,
              title: d.title,
              type: d.type,
              site: d.site,
              state: d.state,
              priority: d.alarms[0]?.priority ?? null,
              taken: d.alarms.every((a) => a.acknowledged),
              latitude: lat,
              longitude: lon,
              at: place?.measured ?? null,
              home: home?.at ?? null,
              away_m: home ? metres(home.at, [lat, lon]) : null,
            },
          ],
    [d, lat, lon, place?.measured, home],
  );
  const points = (track.data?.points ?? NOWHERE) as [number, number, number][];
  const whole = useMemo(
    () => ({
      at: null,
      bounds: [...points.map(([a, b]): Corner => [a, b]), ...(home ? [home.at] : []), ...(place ? [place.at] : [])],
      number: track.data ? 1 : 0, // looked for once, so that whoever has come nearer stays there
    }),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [track.data, home],
  );
  if (!place) return null;
  const away = devices[0]?.away_m ?? null;
  return (
    <section className="mt-5" aria-label="Where it is">
      <h2 className="mb-1">
        Where it is <span>· its way over the lookback</span>
        <Link className="link ml-3 font-normal text-second" to={kept("/places", { device: d.name })}>
          on the map
        </Link>
      </h2>
      <p className="mb-1 text-[12.5px] text-second">
        {said(place.at)}
        {place.measured ? (
          <>
            , measured <At at={place.measured} />
          </>
        ) : (
          ", as it was given"
        )}
        {away !== null && `; ${Math.round(away)} m from home`}
        {track.data && `; ${counted(track.data.count, "position")}`}
      </p>
      <div className="h-72 border border-line">
        <MapChart
          ground={ground.data}
          tiles={null}
          devices={devices}
          chosen={d.name}
          choose={nothing}
          fences={fences.data?.results ?? NOWHERE}
          fence={null}
          chooseFence={(id) => void navigate(kept("/places", { fence: String(id) }))}
          shape={null}
          corner={null}
          setCorner={nothing}
          change={nothing}
          draw={nothing}
          drawing={false}
          track={points}
          home={home}
          go={whole}
        />
      </div>
    </section>
  );
}
