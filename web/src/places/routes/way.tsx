import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { At, shown } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { unitOf } from "../../parts/units";

type Tried = Schemas["TryOut"];
type Step = Schemas["TryStep"];

const DID: Record<string, string> = {
  when: "holds",
  drop: "drops",
  correct: "corrects",
  derive: "derives",
  gather: "counts for its sites in",
  thin: "holds back",
  mark: "marks",
  send: "sends",
  stop: "ends the way",
};

/** What stood before and stands now, of one field. */
function Change({ name, was, is }: { name: string; was: unknown; is: unknown }) {
  const words = (value: unknown) => shown(value, { kind: typeof value === "number" ? "number" : "text" });
  return (
    <span className="mr-3 whitespace-nowrap">
      {name.replaceAll("_", " ")} <span className="text-second">{words(was)}</span> →{" "}
      <b>{is === null ? "gone" : words(is)}</b>
    </span>
  );
}

/** The way of one message: as decoded, line by line through the routes, as stored. */
export function Way({ tried, lines }: { tried: Tried; lines?: (step: Step) => string | undefined }) {
  const kept = useKept();
  if (!tried.decoder) return <p className="text-second">Its device type has no decoder in force yet.</p>;
  if (tried.error) return <p className="border-l-3 border-ink pl-3">Its decoder refuses it: {tried.error}</p>;
  const several = new Set(tried.before.map((r) => r.at)).size > 1;
  const devices = new Set(tried.after.map((r) => r.device)).size > 1;
  return (
    <div className="grid gap-3">
      <Values title="As decoded" rows={tried.before} several={several} />
      {tried.steps.length === 0 ? (
        <p className="border-l-3 border-line pl-3 text-second">No line of a route takes it: it is stored as it came.</p>
      ) : (
        <ol className="way" aria-label="Line by line">
          {tried.steps.map((step, i) => (
            <li key={i} className={step.what === "failed" ? "font-semibold" : ""}>
              <span className="flex flex-wrap items-baseline gap-x-2">
                {step.definition > 0 ? (
                  <Link className="link" to={kept(`/routes/${step.definition}`)}>
                    {step.route}
                  </Link>
                ) : (
                  <b>{step.route}</b>
                )}
                <span className="text-second">
                  line {step.line}
                  {step.version === null ? ", this draft" : `, version ${step.version}`}
                </span>
                <span>{step.what === "failed" ? `could not tell: ${step.because}` : DID[step.act]}</span>
                {several && (
                  <span className="ml-auto text-[12.5px] text-second">
                    <At at={step.at} />
                  </span>
                )}
              </span>
              {lines?.(step) && <code className="block font-mono text-[12px] text-second">{lines(step)}</code>}
              {Object.entries((step.fields ?? {}) as Record<string, [unknown, unknown]>).map(([name, [was, is]]) =>
                step.act === "gather" ? (
                  <b key={name}>{name.replaceAll("_", " ")}</b>
                ) : (
                  <Change key={name} name={name} was={was} is={is} />
                ),
              )}
            </li>
          ))}
        </ol>
      )}
      {tried.steps.length > 0 && (
        <Values title="As stored" rows={tried.after} several={several} devices={devices} before={tried.before} />
      )}
      {tried.sent.length > 0 && (
        <section aria-label="Would be sent">
          <h2 className="mb-1">
            Would be sent <span>· nothing is sent here</span>
          </h2>
          <ul>
            {tried.sent.map((one, i) => (
              <li key={i}>
                to <b>{one.outlet}</b>:{" "}
                {Object.entries(one.values as Record<string, { value: unknown; unit: string | null }>)
                  .map(([name, v]) => `${name.replaceAll("_", " ")} ${String(v.value)} ${unitOf(v.unit)}`.trim())
                  .join(", ")}
                {Object.entries(one.marks as Record<string, string>).map(([k, v]) => (
                  <span key={k} className="ml-2 border border-line px-1 text-[12px]">
                    {k} = {v}
                  </span>
                ))}
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function Values({
  title,
  rows,
  several,
  devices,
  before,
}: {
  title: string;
  rows: Tried["before"];
  several: boolean;
  devices?: boolean;
  before?: Tried["before"];
}) {
  const was = new Map(
    (before ?? []).map((r) => [`${r.field} ${r.at} ${r.device}`, JSON.stringify([r.value, r.missing])]),
  );
  return (
    <section aria-label={title}>
      <h2 className="mb-1">{title}</h2>
      {rows.length === 0 && <p className="text-second">nothing</p>}
      <ul className="flex flex-wrap gap-x-5 gap-y-0.5">
        {rows.map((r, i) => {
          const known = was.get(`${r.field} ${r.at} ${r.device}`);
          const differs = before !== undefined && known !== JSON.stringify([r.value, r.missing]);
          return (
            <li key={i} className={differs ? "font-bold" : ""}>
              <span className={differs ? "" : "text-second"}>{r.field.replaceAll("_", " ")}</span>{" "}
              {r.missing ? `missing: ${r.missing}` : (r.text ?? shown(r.value, r))}{" "}
              {!r.missing && r.unit && r.unit !== "1" ? unitOf(r.unit) : ""}
              {devices && <span className="ml-1 text-[12px] font-normal text-second">of {r.device}</span>}
              {several && (
                <span className="ml-1 text-[12px] font-normal text-second">
                  <At at={r.at} />
                </span>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
