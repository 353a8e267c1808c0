import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Navigate, useParams } from "react-router";
import { ofSites, ofTypes, ofDevices } from "../../api/queries";
import { Trouble, Waiting } from "../../parts/basics";
import { Boundary } from "../../parts/boundary";
import { useKept } from "../../parts/lookback-state";
import { Key, PriorityMark } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Split } from "../../parts/split";
import { counted } from "../../parts/words";
import { useAsked } from "./asked";
import { ConditionTrialPart, type Trial } from "./condition-trial";
import { CurvePart, type Subject } from "./curve";
import { useDraft, useWords } from "./draft";
import { DefinitionHead } from "./head";
import { Instruction } from "./instruction";
import { OffStrip } from "./off";
import { Overtaken } from "./overtaken";
import { RolloutStrip } from "./rollout";
import { Suggestion } from "./suggestion";
import { Supposed } from "./supposed";
import { TextPane } from "./text-pane";

const HEAVY_S = 6; // a trial that takes longer is run when somebody asks for it

export default function ConditionScreen() {
  const id = Number(useParams().id);
  const draft = useDraft(id);
  const kept = useKept();
  const types = useQuery(ofTypes());
  const type = draft.check.data?.type ?? draft.definition.data?.type ?? "";
  const own = types.data?.results.find((t) => t.key === type);
  const words = useWords(
    "condition",
    (own?.fields ?? []).map((f) => f.name),
    (own?.setpoints ?? []).map((s) => s.name),
    (types.data?.results ?? []).map((t) => t.key),
  );
  const sites = /^\s*on each site of\b/m.test(draft.settled);
  const devices = useQuery({ ...ofDevices({ type, limit: 200, order: "name" }), enabled: Boolean(type) && !sites });
  const places = useQuery({ ...ofSites(), enabled: sites });
  const [days, setDays] = useState(7);
  const [asked, setAsked] = useState<string | null>(null);
  const [supposed, setSupposed] = useState<Record<string, number>>({});
  const [ran, setRan] = useState(0); // how often somebody asked for the trial
  const [stopped, setStopped] = useState(false);
  const [byItself, setByItself] = useState(true);
  const engineer = useMay("engineer");
  const operator = useMay("operator");
  const sound = draft.ready && draft.sound && draft.upToDate;
  const trial = useAsked<Trial>(
    `/api/v1/definitions/${id}/trial/progress`,
    { text: draft.settled, days, ...(Object.keys(supposed).length ? { supposed } : {}) },
    sound && !stopped && (byItself || ran > 0),
  );
  const found = trial.data;
  const seconds = found?.seconds ?? 0;
  useEffect(() => {
    setByItself(seconds <= HEAVY_S);
    setRan(0);
  }, [seconds, draft.settled, days]);
  const subjects = useMemo<Subject[]>(() => {
    const worst = (found?.subjects === (sites ? "sites" : "devices") ? found.rows : []).map((r) => ({
      name: r.device,
      title: r.title,
    }));
    const listed = (sites ? places.data?.results : devices.data?.results) ?? [];
    const known = new Set(worst.map((s) => s.name));
    return [...worst, ...listed.filter((d) => !known.has(d.name)).map(({ name, title }) => ({ name, title }))];
  }, [found, sites, places.data, devices.data]);
  const choose = useCallback((name: string) => setAsked(name), []);
  const kind = draft.definition.data?.kind ?? "condition";
  if (kind !== "condition") return <Navigate to={kept(`/${kind}s/${id}`)} replace />;
  if (!draft.ready)
    return draft.definition.error ? <Trouble error={draft.definition.error} /> : <Waiting what="the condition" />;
  const subject = subjects.some((s) => s.name === asked) ? asked : (subjects[0]?.name ?? null);
  const facts = draft.check.data;
  return (
    <>
      <div className="desk-screen">
        <DefinitionHead
          draft={draft}
          about={<>{own?.title ?? type}</>}
          opens={found && !trial.isPlaceholderData ? found.still_open : null}
        />
        <RolloutStrip id={id} of="condition" />
        <Overtaken draft={draft} />
        {draft.definition.data && <OffStrip definition={draft.definition.data} engineer={engineer} />}
        {facts?.sentence && (
          <p className="mb-2 flex items-baseline gap-2 text-[15px]" aria-label="What it does">
            {facts.priority && <PriorityMark priority={facts.priority} />}
            <span>
              <Sentence text={facts.sentence} found={found} />
            </span>
          </p>
        )}
        <Split
          name="condition"
          usual={44}
          left={
            <TextPane
              draft={draft}
              label="Condition text"
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
            <CurvePart
              draft={draft}
              subject={subject}
              subjects={subjects}
              choose={choose}
              sites={sites}
              fields={own?.fields ?? []}
              engineer={engineer}
              supposed={supposed}
              suppose={(name, value) => setSupposed({ ...supposed, [name]: value })}
            />
          }
        />
        <Supposed type={own} supposed={supposed} clear={() => setSupposed({})} device={sites ? null : subject} />
        <Boundary what="The trial">
          <ConditionTrialPart
            draft={draft}
            trial={trial}
            days={days}
            setDays={setDays}
            by={{
              run: () => {
                setStopped(false);
                setRan(ran + 1);
                void trial.refetch();
              },
              stop: () => {
                setStopped(true);
                trial.stop();
              },
            }}
            byItself={byItself && !stopped}
            choose={choose}
            live={draft.definition.data?.live?.number ?? null}
            operator={operator}
            suggestion={
              <Suggestion
                draft={draft}
                days={days}
                suppose={(name, value) => setSupposed({ ...supposed, [name]: value })}
              />
            }
          />
        </Boundary>
      </div>
      <Instruction definition={draft.definition.data} />
    </>
  );
}

/** What it does, with how many it is behind whom it watches. */
function Sentence({ text, found }: { text: string; found: Trial | undefined }) {
  const [, whom, rest] = /^(Watches [^.]*)(\..*)$/s.exec(text) ?? [];
  if (!found || !whom) return text;
  const own = found.own_limits;
  return (
    <>
      {whom}, <b>{counted(found.devices, found.subjects === "sites" ? "site" : "device")}</b>
      {own > 0 && (own === 1 ? " of which one has a limit of its own" : ` of which ${own} have limits of their own`)}
      {rest}
    </>
  );
}
