import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams } from "react-router";
import { api, got } from "../../api/client";
import { Empty, Trouble, Waiting } from "../../parts/basics";
import { BitRow, HexRow, type Tint } from "../../parts/bytes";
import { Editor, fixed, Problems } from "../../parts/editor";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { TextPayload } from "../../parts/text-payload";
import { kindOf, nameFrom, spotsByPath, Tree, written, type Step } from "../../parts/tree";
import { Key } from "../../parts/marks";
import { useDraft, useWords } from "./draft";
import { DefinitionHead } from "./head";
import { Overtaken } from "./overtaken";
import { Cases } from "./cases";
import { Trial } from "./decoder-trial";
import { Failing } from "./failing";
import { FromTable } from "./from-table";
import { Guesses } from "./guess";
import { LineForm } from "./line-form";
import { useProgress } from "./progress";
import { RolloutStrip } from "./rollout";
import { Sample, useSample } from "./sample";
import { Values, Verdict } from "./values";

export default function DecoderScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const [line, setLine] = useState<number | null>(null);
  const [cursor, setCursor] = useState<number | null>(null);
  const type = draft.definition.data?.type ?? "";
  const types = useQuery({ queryKey: ["types"], queryFn: () => got(api.GET("/api/v1/types")) });
  const own = types.data?.results.find((t) => t.key === type);
  const words = useWords(
    (own?.fields ?? []).map((f) => f.name),
    [],
    [type],
  );
  const sample = useSample(type);
  const trial = useProgress(`/api/v1/definitions/${id}/trial/progress`);
  const engineer = useMay("engineer");
  const [picked, setPicked] = useState<[number, number] | null>(null);
  const decoded = useQuery({
    queryKey: ["decode", type, draft.settled, sample.hex, sample.at],
    enabled: sample.hex !== null && draft.ready && draft.sound,
    queryFn: () =>
      got(
        api.POST("/api/v1/decode", {
          body: {
            text: draft.settled,
            type,
            payload_hex: sample.hex ?? "",
            ...(sample.at ? { received_at: sample.at } : {}),
            ...sample.beside,
          },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  });
  const device = sample.arrival?.device ?? null;
  const curves = useQuery({
    queryKey: ["curves", type, draft.settled, device, sample.at],
    enabled: device !== null && sample.at !== null && draft.ready && draft.sound,
    queryFn: () =>
      got(
        api.POST("/api/v1/decode/curves", {
          body: { text: draft.settled, type, device: device ?? "", until: sample.at ?? "" },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
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
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the decoder" />;
  // What is on show belongs to the text and the message that are on show.
  const settled = draft.upToDate && !sample.pending && !decoded.isFetching && !decoded.isPlaceholderData;
  const lit = new Set<number>();
  const current = marks.filter((m) => m.line === line);
  for (const m of current) for (const p of m.places) for (let b = p.first; b <= p.last; b += 1) lit.add(b);
  const first = current[0]?.places[0];
  return (
    <>
      <DefinitionHead draft={draft} about={<>{own?.devices ?? 0} devices run it</>} />
      <RolloutStrip
        id={id}
        busy={trial.run.isPending}
        compare={(text) => trial.run.mutate({ text, messages: 20_000, chosen: true })}
      />
      <Failing id={id} />
      <Overtaken draft={draft} />
      <div className="grid gap-x-8 gap-y-4 xl:grid-cols-[minmax(0,1.55fr)_minmax(390px,1fr)]">
        <section className="min-w-0" aria-label="Text">
          <h2 className="mb-1">
            What the data sheet says{" "}
            <span>
              · text; <Key>Ctrl Space</Key> completes
            </span>{" "}
            {engineer && <FromTable name={type} take={draft.setText} />}
          </h2>
          <Editor
            label="Decoder text"
            value={draft.text}
            onChange={draft.setText}
            problems={draft.problems}
            words={words}
            lit={line}
            tints={tintOf}
            untaken={untaken}
            onLine={(n) => {
              setLine(n);
              setCursor(n);
            }}
          />
          {engineer && <LineForm text={draft.text} line={cursor} words={words} setText={draft.setText} />}
          <Problems problems={draft.problems} onFix={(p) => draft.setText(fixed(draft.text, p))} />
        </section>
        <section className="min-w-0" aria-label="Message">
          <Sample sample={sample} type={type} />
          {sample.hex !== null && (
            <>
              {decoded.data?.document ? (
                <Tree
                  document={decoded.data.document}
                  spots={spotsByPath(marks, tintOf)}
                  line={line}
                  onLine={setLine}
                  {...(engineer
                    ? {
                        onPick: (path: Step[], value: unknown) =>
                          draft.setText(
                            added(draft.text, `  at ${written(path)}  ${nameFrom(path, taken)}  ${kindOf(value)}`),
                          ),
                      }
                    : {})}
                />
              ) : sample.text !== null ? (
                <TextPayload hex={sample.hex} marks={marks} tintOf={tintOf} line={line} onLine={setLine} />
              ) : (
                <HexRow
                  hex={sample.hex}
                  tints={decoded.data ? byByte : undefined}
                  lit={lit}
                  onHover={(b) => b !== null && setLine(byByte.get(b)?.[0]?.line || null)}
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
              {picked && sample.text === null && sample.hex && picked[1] < sample.hex.length / 2 && (
                <Guesses
                  key={`${picked[0]} ${picked[1]}`}
                  type={type}
                  device={device}
                  hex={sample.hex}
                  first={picked[0]}
                  last={picked[1]}
                  taken={taken}
                  write={(written) => {
                    draft.setText(added(draft.text, written));
                    setPicked(null);
                  }}
                  close={() => setPicked(null)}
                />
              )}
              {decoded.data && sample.text === null && decoded.data.unread > 0 && (
                <p className="mt-1 text-[12.5px]">
                  <b>{decoded.data.unread} bytes at the end</b> are read by nothing.
                </p>
              )}
              <div className="mt-1.5 min-h-6">
                {first && sample.hex && sample.text === null && <BitRow hex={sample.hex} {...first} />}
              </div>
              <Verdict
                decoded={decoded.data}
                error={decoded.error}
                blocked={draft.errors.length > 0}
                setLine={setLine}
              />
              <Values
                decoded={decoded.data}
                curves={device === null ? undefined : curves.data}
                sender={device}
                marks={marks}
                tintOf={tintOf}
                line={line}
                setLine={setLine}
              />
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
      </div>
      <Cases id={id} draft={draft} sample={sample} decoded={decoded.data} settled={settled} />
      <Trial id={id} draft={draft} type={type} trial={trial} />
    </>
  );
}

/** A text with one line more at its end, before its commands. */
function added(text: string, line: string): string {
  const rows = text.replace(/\n+$/, "").split("\n");
  const at = rows.findIndex((r) => /^ {2}command\b/.test(r));
  rows.splice(at < 0 ? rows.length : at, 0, line);
  return `${rows.join("\n")}\n`;
}
