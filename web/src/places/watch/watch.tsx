import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { At, Empty, Trouble, Waiting } from "../../parts/basics";
import { Curve } from "../../parts/curve";
import { spanWord, useKept, useLookback } from "../../parts/lookback-state";
import { useMe } from "../../parts/me";
import { lasting } from "../../parts/time";
import { save } from "../../parts/save";
import { counted } from "../../parts/words";
import { Bands } from "./bands";
import { percent } from "./figures";
import { Hand } from "./hand";
import { ofWatch } from "./queries";
import { lastVisit, visited } from "./visits";

type Told = Schemas["WatchOut"];

/** The fleet in one sentence; its numbers add up. */
function Headline({ told, live }: { told: Told; live: boolean }) {
  const kept = useKept();
  const words: [string, string][] = [
    ["reporting", "report"],
    ["overdue", "are overdue"],
    ["silent", "are silent"],
    ["undecodable", "are undecodable"],
    ["waiting", "were never heard"],
  ];
  const parts = words.filter(([state]) => told.states[state]);
  return (
    <h1 className="min-w-0 basis-full text-[21px] leading-snug font-semibold md:flex-1 md:basis-0">
      Of {counted(told.devices, "device")}{" "}
      {parts.map(([state, word], i) => (
        <span key={state}>
          {i > 0 && (i === parts.length - 1 ? " and " : ", ")}
          <Link
            className={`hover:underline ${state === "reporting" ? "" : "font-bold"}`}
            to={kept("/devices", { state })}
          >
            {told.states[state]} {told.states[state] === 1 ? word.replace("are ", "is ") : word}
          </Link>
        </span>
      ))}
      .{" "}
      <Link className={`hover:underline ${told.untaken ? "font-bold" : ""}`} to={kept("/alarms")}>
        {told.open === 0
          ? `No alarm ${live ? "is" : "was"} open`
          : `${counted(told.open, "alarm")} open, ${told.untaken || "none"} of them not taken`}
      </Link>
      .
    </h1>
  );
}

function Box({ title, about, children }: { title: string; about?: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="min-w-0">
      <h2 className="mb-1">
        {title} {about && <span>· {about}</span>}
      </h2>
      {children}
    </section>
  );
}

const More = ({ shown, of, what }: { shown: number; of: number; what: string }) =>
  of > shown ? (
    <p className="pt-1 text-[12.5px] text-second">
      {of - shown} more {what}
    </p>
  ) : null;

function Fading({ told }: { told: Told }) {
  const kept = useKept();
  const some = told.fading.slice(0, 8);
  return (
    <Box title="Fades" about="two weeks, a point a day">
      {some.length === 0 && <p className="text-second">No battery, link, clock or delay gets worse.</p>}
      <ul className="rows">
        {some.map((one) => (
          <li
            key={`${one.kind}${one.device}`}
            className="grid grid-cols-[minmax(0,1fr)_70px] items-center gap-x-2 py-0.5"
          >
            <span className="min-w-0 leading-tight">
              <Link className="font-semibold hover:underline" to={kept(`/devices/${one.device}`)}>
                {one.title}
              </Link>
              {one.site_title && <span className="text-[12.5px] text-second"> · {one.site_title}</span>}
              <span className="block text-[12.5px] text-second">{one.words}</span>
            </span>
            <Curve values={one.days} height={22} />
          </li>
        ))}
      </ul>
      <More shown={some.length} of={told.fading_count} what="fade" />
    </Box>
  );
}

function Strange({ told }: { told: Told }) {
  const kept = useKept();
  const some = told.unusual.slice(0, 6);
  return (
    <Box title="Unlike its neighbours" about="same type, same site; no alarm">
      {some.length === 0 && <p className="text-second">No newest value lies far from those around it.</p>}
      <ul className="rows">
        {some.map((one) => (
          <li key={one.device} className="py-0.5 leading-tight">
            <Link className="font-semibold hover:underline" to={kept(`/devices/${one.device}`)}>
              {one.title}
            </Link>
            {one.site_title && <span className="text-[12.5px] text-second"> · {one.site_title}</span>}
            <span className="block text-[12.5px] text-second">{one.words}</span>
          </li>
        ))}
      </ul>
      <More shown={some.length} of={told.unusual_count} what="stand apart" />
    </Box>
  );
}

function Over({ told }: { told: Told }) {
  const kept = useKept();
  const some = told.over.slice(0, 16);
  return (
    <Box title="Over" about={`${counted(told.over_count, "alarm")} ended`}>
      {some.length === 0 && <p className="text-second">None ended in this span.</p>}
      <ul className="rows">
        {some.map((one) => (
          <li key={one.alarm} className="flex items-baseline gap-2 py-0.5">
            <Link
              className="min-w-0 truncate hover:underline"
              to={kept("/alarms", { show: "all", alarm: String(one.alarm) })}
              title={one.text}
            >
              {one.times === 1 ? one.text : `${one.condition}, ${one.times} times`}
            </Link>
            <span className="ml-auto text-[12.5px] whitespace-nowrap text-second">
              <At at={one.at} />
            </span>
          </li>
        ))}
      </ul>
      <More shown={some.length} of={told.over.length} what="conditions" />
    </Box>
  );
}

function Fresh({ told }: { told: Told }) {
  const kept = useKept();
  const some = told.fresh.slice(0, 6);
  return (
    <Box title="New">
      {some.length === 0 && <p className="text-second">No first message, no version, no unknown sender.</p>}
      <ul className="rows">
        {some.map((one) => (
          <li key={one.link + one.words} className="flex items-baseline gap-2 py-0.5">
            <Link className="min-w-0 truncate hover:underline" to={kept(one.link)} title={one.words}>
              {one.words}
            </Link>
            {one.at && (
              <span className="ml-auto text-[12.5px] whitespace-nowrap text-second">
                <At at={one.at} />
              </span>
            )}
          </li>
        ))}
      </ul>
      <More shown={some.length} of={told.fresh_count} what="are new" />
    </Box>
  );
}

const BEFORE: Record<number, string> = { 0: "this span", 1: "a day before", 7: "a week before", 28: "4 weeks before" };

/** The span beside the same one earlier. */
function Compared({ told }: { told: Told }) {
  return (
    <Box title="Compared" about="with the same span earlier">
      <table className="w-full text-right text-[13px]">
        <thead className="text-[12px] text-second">
          <tr>
            <td />
            <th className="font-normal">alarms</th>
            <th className="font-normal" title="messages of those that the cadence promises">
              arrived
            </th>
            <th className="font-normal">decoded</th>
            <th className="font-normal" title="share of the time">
              silent
            </th>
          </tr>
        </thead>
        <tbody>
          {told.compared.map((row) => (
            <tr key={row.days} className={`border-t border-line ${row.days ? "" : "font-semibold"}`}>
              <th className="text-left font-normal">{BEFORE[row.days]}</th>
              <td>{row.raised}</td>
              <td>{percent(row.availability)}</td>
              <td>{percent(row.decoded)}</td>
              <td>{percent(row.silent)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <ul className="mt-2 text-[12.5px] text-second">
        {told.shelved > 0 && (
          <li>
            {counted(told.shelved, "alarm")} shelved
            {told.shelved_until && (
              <>
                , the next until <At at={told.shelved_until} />
              </>
            )}
          </li>
        )}
        {told.suppressed > 0 && <li>{counted(told.suppressed, "silence")} explained by a gateway's</li>}
        {told.gaps.length > GAPS && (
          <li>
            Oculum did not listen {told.gaps.length} times,{" "}
            {lasting(told.gaps.reduce((sum, g) => sum + lengthOf(g), 0))} in all; counted against nobody. The last ones:
          </li>
        )}
        {told.gaps.slice(-GAPS).map((gap) => (
          <li key={gap.since}>
            Oculum did not listen from <At at={gap.since} /> for {lasting(lengthOf(gap))}
            {told.gaps.length <= GAPS && "; counted against nobody"}
          </li>
        ))}
      </ul>
    </Box>
  );
}

const GAPS = 3;
const lengthOf = (gap: Told["gaps"][number]) => (Date.parse(gap.until) - Date.parse(gap.since)) / 1000;

/** Takes the hand-over of the lookback as a file of Markdown. */
function useHandover() {
  const lookback = useLookback();
  const [error, setError] = useState<unknown>(null);
  const take = async () => {
    try {
      const text = await got(
        api.GET("/api/v1/watch/handover", { params: { query: lookback.query() }, parseAs: "text" }),
      );
      save("hand-over.md", new Blob([text], { type: "text/markdown" }));
      setError(null);
    } catch (found) {
      setError(found);
    }
  };
  return { take, error };
}

export default function Watch() {
  const lookback = useLookback();
  const kept = useKept();
  const me = useMe();
  const found = useQuery(ofWatch(lookback));
  const handover = useHandover();
  const [before] = useState(() => lastVisit(me.name));
  useEffect(() => visited(me.name), [me.name]);
  const told = found.data;
  if (!told)
    return found.error ? (
      <Trouble error={found.error} retry={() => void found.refetch()} />
    ) : (
      <Waiting what="the watch" />
    );
  if (told.devices === 0)
    return (
      <Empty title="There is no device yet.">
        <Link className="link" to={kept("/devices")}>
          Add one
        </Link>
        ; what needs a hand, fades or is new will stand here.
      </Empty>
    );
  const sinceS = before ? (Date.now() - before.getTime()) / 1000 : 0;
  const usually = told.usual === null ? "" : `, usually ${told.usual}`;
  return (
    <div className="grid gap-y-4">
      <header className="border-b border-line pb-3">
        <div className="flex flex-wrap items-start gap-x-4 gap-y-2">
          <Headline told={told} live={lookback.live} />
          <span className="flex gap-2">
            <Link className="button" to={kept("/watch/health")}>
              Health
            </Link>
            <Link className="button" to={kept("/watch/rhythm")}>
              Rhythm
            </Link>
            <Link className="button" to={kept("/watch/curves")}>
              Curves
            </Link>
            <Link className="button" to={kept("/watch/compare")}>
              Compare
            </Link>
            <button
              type="button"
              className="button"
              title="a file of Markdown with what stands here"
              onClick={() => void handover.take()}
            >
              Hand over
            </button>
          </span>
        </div>
        <p className="mt-1 text-second">
          {lookback.live ? `Last ${spanWord(lookback.spanS)}` : spanWord(lookback.spanS)}:{" "}
          <b className="text-ink">{counted(told.raised, "alarm")}</b>
          {usually}; {told.over_count} ended.
          {told.blocked.length > 0 && (
            <>
              {" "}
              <Link className="link font-bold text-ink" to={kept("/telling", { show: "outlets" })}>
                {told.blocked.join(", ")} {told.blocked.length > 1 ? "do" : "does"} not deliver
              </Link>
              .
            </>
          )}
          {before && lookback.live && sinceS > 600 && Math.abs(sinceS - lookback.spanS) > 600 && (
            <>
              {" "}
              <button type="button" className="link" onClick={() => lookback.set({ spanS: Math.round(sinceS) })}>
                since your last visit, {lasting(sinceS)} ago
              </button>
            </>
          )}
        </p>
        <Trouble error={handover.error} />
      </header>
      <div className="grid gap-x-8 gap-y-5 lg:grid-cols-[minmax(0,1.35fr)_minmax(0,1fr)]">
        <Hand />
        <div className="grid content-start gap-y-5">
          <Bands />
          <Compared told={told} />
        </div>
      </div>
      <div className="grid gap-x-8 gap-y-5 border-t border-line pt-3 md:grid-cols-2 lg:grid-cols-3">
        <Fading told={told} />
        <Strange told={told} />
        <div className="grid content-start gap-y-4">
          <Over told={told} />
          <Fresh told={told} />
        </div>
      </div>
    </div>
  );
}
