import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Navigate, useParams } from "react-router";
import { ofTypes } from "../../api/queries";
import { named, useAddress } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/basics";
import { Boundary } from "../../parts/boundary";
import { useKept } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { Split } from "../../parts/split";
import { useDraft, useWords } from "../definitions/draft";
import { DefinitionHead } from "../definitions/head";
import { Overtaken } from "../definitions/overtaken";
import { Sample, useSample } from "../definitions/sample";
import { TextPane } from "../definitions/text-pane";
import { ofTry } from "./queries";
import { RouteTrial } from "./trial";
import { Way } from "./way";

const ADDRESS = { message: named };

/** A route: its text and form, one message through it line by line, and what it would have done to the past. */
export default function RouteScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const [, put] = useAddress(ADDRESS);
  const types = useQuery(ofTypes());
  const type = draft.check.data?.type ?? draft.definition.data?.type ?? "";
  const on = onTypes(draft.text, type);
  const own = (types.data?.results ?? []).filter((t) => on.includes(t.key));
  const words = useWords(
    "route",
    [...new Set(own.flatMap((t) => (t.fields ?? []).map((f) => f.name)))],
    [...new Set(own.flatMap((t) => (t.setpoints ?? []).map((s) => s.name)))],
    (types.data?.results ?? []).map((t) => t.key),
  );
  const sample = useSample(type);
  const sound = draft.ready && draft.sound && draft.upToDate;
  const device = sample.device || sample.rows[0]?.device || "";
  const asked =
    sample.pasted === null
      ? { message: sample.arrival?.id ?? null, topic: "" }
      : { device, payload_hex: sample.hex ?? "", topic: sample.rows[0]?.topic ?? "" };
  const ready = sample.pasted === null ? Boolean(sample.arrival) : Boolean(device && sample.hex !== null);
  const tried = useQuery({
    ...ofTry({ ...asked, definition: id, text: draft.settled }),
    enabled: sound && ready,
    retry: false,
    placeholderData: keepPreviousData,
  });
  const kind = draft.definition.data?.kind ?? "route";
  if (kind !== "route") return <Navigate to={kept(`/${kind}s/${id}`)} replace />;
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the route" />;
  const rows = draft.text.split("\n");
  const pick = (message: string) => put({ message });
  return (
    <div className="desk-screen">
      <DefinitionHead draft={draft} about={own.map((t) => t.title).join(", ") || type} />
      <Overtaken draft={draft} />
      {draft.check.data?.sentence && (
        <p className="mb-2 text-[15px]" aria-label="What it does">
          {draft.check.data.sentence}
        </p>
      )}
      <Split
        name="route"
        usual={50}
        left={
          <TextPane
            draft={draft}
            label="Route text"
            words={words}
            title={
              <>
                What it says{" "}
                <span className="keys">
                  · text; <Key>Ctrl Space</Key> completes
                </span>
              </>
            }
          />
        }
        right={
          <section className="desk-pane" aria-label="One message through it">
            <Sample sample={sample} type={type} />
            <div className="desk-scroll" tabIndex={0} role="group" aria-label="The way of the message">
              {!sound && <p className="text-second">Waits for a text without mistakes.</p>}
              {sound && tried.isPending && ready && <Waiting what="its way" />}
              <Trouble error={sound ? tried.error : null} />
              {tried.data && (
                <Way
                  tried={tried.data}
                  lines={(step) => (step.version === null ? rows[step.line - 1]?.trim() : undefined)}
                />
              )}
            </div>
          </section>
        }
      />
      <Boundary what="The trial">
        <RouteTrial id={id} draft={draft} pick={pick} />
      </Boundary>
    </div>
  );
}

/** The device types that a text is on, as far as it says so; else the one that is known. */
function onTypes(text: string, type: string): string[] {
  const found = /^\s*on\s+([a-z0-9_,\s]+?)(?:\s+at site\b|\s+with\b|\s*$)/m.exec(text);
  const listed = found?.[1]?.split(",").map((word) => word.trim()) ?? [];
  return listed.length ? listed : [type];
}
