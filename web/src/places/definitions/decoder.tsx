import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, Navigate, useParams } from "react-router";
import { ofTypes } from "../../api/queries";
import { Empty, Trouble, Waiting } from "../../parts/basics";
import { Boundary } from "../../parts/boundary";
import { BitRow, HexRow, type Tint } from "../../parts/bytes";
import { useHelp } from "../../parts/help";
import { useKept } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Split } from "../../parts/split";
import { TextPayload } from "../../parts/text-payload";
import { kindOf, nameFrom, spotsByPath, Tree, written, type Step } from "../../parts/tree";
import { counted } from "../../parts/words";
import { Cases } from "./cases";
import { TrialBar, TrialDetails } from "./decoder-trial";
import { useDraft, useWords } from "./draft";
import { Failing } from "./failing";
import { FromTable } from "./from-table";
import { Guesses } from "./guess";
import { DefinitionHead } from "./head";
import { Overtaken } from "./overtaken";
import { useProgress, type DecoderTrial } from "./progress";
import { ofDecoded, ofCourses } from "./queries";
import { RolloutStrip } from "./rollout";
import { Sample, useSample } from "./sample";
import { placeOf } from "./stands";
import { TextPane } from "./text-pane";
import { Values, Verdict } from "./values";

export default function DecoderScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const [line, setLine] = useState<number | null>(null);
  const type = draft.definition.data?.type ?? "";
  const types = useQuery(ofTypes());
  const own = types.data?.results.find((t) => t.key === type);
  const words = useWords(
    "decoder",
    (own?.fields ?? []).map((f) => f.name),
    [],
    [type],
  );
  const sample = useSample(type);
  const trial = useProgress<DecoderTrial>(`/api/v1/definitions/${id}/trial/progress`);
  const engineer = useMay("engineer");
  const [picked, setPicked] = useState<[number, number] | null>(null);
  const [pointed, setPointed] = useState<number | null>(null);
  const [goTo, setGoTo] = useState<{ line: number } | null>(null);
  const [, help] = useHelp();
  const decoded = useQuery({
    ...ofDecoded({
      text: draft.settled,
      type,
      payload_hex: sample.hex ?? "",
      ...(sample.at ? { received_at: sample.at } : {}),
      ...sample.beside,
    }),
    enabled: sample.hex !== null && draft.ready && draft.sound,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const device = sample.arrival?.device ?? null;
  const curves = useQuery({
    ...ofCourses(draft.settled, type, device ?? "", sample.at ?? ""),
    enabled: device !== null && sample.at !== null && draft.ready && draft.sound,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const marks = useMemo(() => decoded.data?.marks ?? [], [decoded.data]);
  const untaken = useMemo(
    () => new Set(draft.upToDate ? (decoded.data?.untaken ?? []) : []),
    [decoded.data, draft.upToDate],
  );
  const taken = useMemo(() => new Set(draft.text.match(/[a-z][a-z0-9_]*/g) ?? []), [draft.text]);
  const tintOf = useMemo(() => new Map([...new Set(marks.map((m) => m.line))].map((l, i) => [l, i])), [marks]);
  const byByte = useMemo(() => {
    const found = new Map<number, Tint[]>();
    for (const m of marks)
      for (const p of m.places)
        for (let b = p.first; b <= p.last; b += 1) {
          const list = found.get(b) ?? [];
          if (!list.some((t) => t.line === m.line))
            list.push({ tint: tintOf.get(m.line) ?? 0, line: m.line, field: m.field || "checked" });
          found.set(b, list);
        }
    const bytes = (sample.hex?.length ?? 0) / 2;
    for (let b = bytes - (decoded.data?.tail ?? 0); b < bytes; b += 1)
      if (b >= 0 && !found.has(b)) found.set(b, [{ tint: 17, line: 0, field: "check" }]);
    return found;
  }, [marks, tintOf, sample.hex, decoded.data]);
  const kind = draft.definition.data?.kind ?? "decoder";
  if (kind !== "decoder") return <Navigate to={kept(`/${kind}s/${id}`)} replace />;
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the decoder" />;
  // What is on show belongs to the text and the message that are on show.
  const settled = draft.upToDate && !sample.pending && !decoded.isFetching && !decoded.isPlaceholderData;
  const lit = new Set<number>();
  const current = marks.filter((m) => m.line === line);
  for (const m of current) for (const p of m.places) for (let b = p.first; b <= p.last; b += 1) lit.add(b);
  const scrolls = Boolean(decoded.data?.document) || sample.text !== null; // the payload by itself, not its place
  const places = current.flatMap((m) => m.places);
  const under = pointed === null ? undefined : places.find((p) => pointed >= p.first && pointed <= p.last);
  const bits =
    under ??
    (pointed === null ? places[0] : { first: pointed, last: pointed, high: 7, low: 0, whole: true, little: false });
  const write = (line: string) => {
    const [next, at] = added(draft.text, line);
    draft.setText(next);
    setGoTo({ line: at });
    setPicked(null);
  };
  const point = (n: number | null) => {
    setLine(n);
    setPointed(null);
  };
  return (
    <>
      <div className="desk-screen">
        <DefinitionHead draft={draft} about={<>{running(own?.devices ?? 0)}</>} />
        <RolloutStrip
          id={id}
          of="decoder"
          busy={trial.run.isPending}
          compare={(text) => trial.run.mutate({ text, messages: 20_000, chosen: true })}
        />
        <Failing id={id} />
        <Overtaken draft={draft} />
        <Split
          name="decoder"
          left={
            <TextPane
              draft={draft}
              label="Decoder text"
              words={words}
              title={
                <>
                  What the data sheet says{" "}
                  <span className="keys">
                    · <Key>Ctrl Space</Key> completes, <Key>F1</Key> explains
                  </span>{" "}
                  {engineer && <FromTable name={type} take={draft.setText} />}
                </>
              }
              lit={line}
              tints={tintOf}
              untaken={untaken}
              goTo={goTo}
              onHelp={help}
              standsAt={(n) => (settled ? placeOf(marks, n, draft.text, untaken.has(n)) : null)}
              onLine={point}
              below={
                engineer &&
                !draft.begun && (
                  <p className="mt-1.5 border-l-3 border-line pl-3 text-second">
                    Press a byte of the message to read it, two for a run of them; or write a line, with{" "}
                    <Key>Ctrl Space</Key> for what can stand there.
                  </p>
                )
              }
            />
          }
          right={
            <section className="desk-pane" aria-label="Message">
              <Sample sample={sample} type={type} />
              {sample.hex !== null && (
                <>
                  <div className={`max-h-[38%] shrink-0 ${scrolls ? "flex flex-col" : "desk-scroll"}`}>
                    {decoded.data?.document ? (
                      <Tree
                        document={decoded.data.document}
                        spots={spotsByPath(marks, tintOf)}
                        line={line}
                        onLine={point}
                        {...(engineer
                          ? {
                              onPick: (path: Step[], value: unknown) =>
                                write(`  at ${written(path)}  ${nameFrom(path, taken)}  ${kindOf(value)}`),
                            }
                          : {})}
                      />
                    ) : sample.text !== null ? (
                      <TextPayload hex={sample.hex} marks={marks} tintOf={tintOf} line={line} onLine={point} />
                    ) : (
                      <HexRow
                        hex={sample.hex}
                        tints={decoded.data ? byByte : undefined}
                        lit={lit}
                        onHover={(b) => {
                          if (b === null) return;
                          setLine(byByte.get(b)?.[0]?.line || null);
                          setPointed(b);
                        }}
                        picked={picked}
                        {...(engineer
                          ? {
                              onPick: (b: number) =>
                                setPicked((old) =>
                                  old && old[0] === old[1] && b !== old[0] && Math.abs(b - old[0]) < 8
                                    ? [Math.min(old[0], b), Math.max(old[0], b)]
                                    : [b, b],
                                ),
                            }
                          : {})}
                      />
                    )}
                  </div>
                  {sample.text === null && (
                    <div className="flex min-h-6 shrink-0 flex-wrap items-center gap-x-4">
                      {bits && !decoded.data?.document && <BitRow hex={sample.hex} {...bits} />}
                      {decoded.data && decoded.data.unread > 0 && (
                        <span className="text-[12.5px]">
                          <b>{counted(decoded.data.unread, "byte")} at the end</b>{" "}
                          {decoded.data.unread === 1 ? "is" : "are"} read by nothing.
                        </span>
                      )}
                    </div>
                  )}
                  <div className="desk-scroll min-h-24 flex-1">
                    {picked && sample.text === null && picked[1] < sample.hex.length / 2 && (
                      <Guesses
                        key={`${picked[0]} ${picked[1]}`}
                        type={type}
                        device={device}
                        hex={sample.hex}
                        first={picked[0]}
                        last={picked[1]}
                        taken={taken}
                        declared={own?.fields ?? []}
                        write={write}
                        close={() => {
                          setPicked(null);
                          document.querySelector<HTMLElement>(`[data-byte="${picked[0]}"]`)?.focus();
                        }}
                      />
                    )}
                    <Verdict
                      decoded={decoded.data}
                      error={decoded.error}
                      blocked={draft.errors.length > 0 && draft.begun}
                      setLine={point}
                    />
                    <Values
                      decoded={decoded.data}
                      curves={device === null ? undefined : curves.data}
                      sender={device}
                      marks={marks}
                      tintOf={tintOf}
                      line={line}
                      setLine={point}
                    />
                  </div>
                </>
              )}
              {sample.hex === null && !sample.pending && (
                <Empty title="No message of this type has arrived yet.">
                  Paste one above as hexadecimal digits or as text, or{" "}
                  <Link className="link" to={kept("/devices")}>
                    send one from a device
                  </Link>
                  .
                </Empty>
              )}
            </section>
          }
        />
        <Boundary what="The trial">
          <TrialBar draft={draft} trial={trial} />
        </Boundary>
      </div>
      <Boundary what="Cases and trial">
        <Cases id={id} draft={draft} sample={sample} decoded={decoded.data} settled={settled} />
        <TrialDetails id={id} draft={draft} type={type} trial={trial} />
      </Boundary>
    </>
  );
}

const running = (n: number) =>
  n === 0 ? "no device runs it yet" : `${counted(n, "device")} ${n === 1 ? "runs" : "run"} it`;

/** A text with one line more at its end, before its commands; and the number of that line. */
function added(text: string, line: string): [string, number] {
  const rows = text.replace(/\s+$/, "").split("\n");
  const command = rows.findIndex((r) => /^ {2}command\b/.test(r));
  const at = command < 0 ? rows.length : command;
  rows.splice(at, 0, line);
  return [`${rows.join("\n")}\n`, at + 1];
}
