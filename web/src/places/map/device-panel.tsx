import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { At, shown } from "../../parts/basics";
import { useKept, useLookback } from "../../parts/lookback-state";
import { PriorityMark, STATE_WORDS, StateMark } from "../../parts/marks";
import { titled, unitOf } from "../../parts/units";
import { counted } from "../../parts/words";
import { ofDevice } from "../devices/queries";
import type { MapDevice } from "./marks-layer";
import { type Corner, said } from "./shape";

/** The chosen device: how it is, where, its newest values, and how far it went. */
export function DevicePanel({
  device: d,
  track,
  look,
  close,
}: {
  device: MapDevice;
  track: Schemas["TrackOut"] | null;
  look: (at: Corner) => void;
  close: () => void;
}) {
  const kept = useKept();
  const lookback = useLookback();
  const own = useQuery(ofDevice(lookback, d.name));
  const values = (own.data?.values ?? []).filter((v) => v.kind !== "position").slice(0, 10);
  return (
    <>
      <h2 className="mb-1 flex items-center gap-2 !text-[15px] !text-ink">
        <StateMark state={d.state} /> {d.title}
        <button type="button" className="link ml-auto text-[12.5px] font-normal" onClick={close}>
          close
        </button>
      </h2>
      <p>
        {STATE_WORDS[d.state] ?? d.state}
        {d.at ? (
          <>
            ; measured <At at={d.at} />
          </>
        ) : (
          "; at the position it was given"
        )}
        .
      </p>
      {d.priority && (
        <p className="mt-1 flex items-center gap-2">
          <PriorityMark priority={d.priority} taken={d.taken} />
          <Link className="link" to={kept("/alarms", { search: d.title })}>
            {d.priority} alarm{d.taken ? "" : ", not taken"}
          </Link>
        </p>
      )}
      <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 text-[13px]">
        <dt className="text-second">position</dt>
        <dd className="text-right font-mono text-[12.5px]">{said([d.latitude, d.longitude])}</dd>
        {d.away_m !== null && (
          <>
            <dt className="text-second">from home</dt>
            <dd className="text-right">{Math.round(d.away_m)} m</dd>
          </>
        )}
        {track && (
          <>
            <dt className="text-second">track</dt>
            <dd className="text-right">{counted(track.count, "position")} in the lookback</dd>
          </>
        )}
      </dl>
      <h2 className="mt-3 mb-1">Newest values</h2>
      <ul className="rows">
        {values.map((v) => (
          <li key={v.field} className="row-line flex items-center gap-2 px-1">
            <span className="truncate">{titled(v.field, v.title)}</span>
            <span className="ml-auto shrink-0">
              <b>{shown(v.value, v)}</b> <span className="unit">{unitOf(v.unit)}</span>
            </span>
          </li>
        ))}
        {own.data && values.length === 0 && <li className="row-line px-1 text-second">none yet</li>}
      </ul>
      <p className="mt-2 flex gap-4">
        <Link className="link" to={kept(`/devices/${d.name}`)}>
          open the device
        </Link>
        <button type="button" className="link" onClick={() => look([d.latitude, d.longitude])}>
          to the middle
        </button>
      </p>
    </>
  );
}
