import { useEffect, useRef } from "react";
import { Link, useLocation, useParams } from "react-router";
import { DOCS, search, SECTIONS } from "../help/sections";
import HelpText from "../help/text";
import { titleOfDoc } from "../help/titles";
import { useAddress, word } from "../parts/address";
import { Empty, Heading } from "../parts/basics";
import { useKept } from "../parts/lookback-state";

const MOST = 20;
const ADDRESS = { q: word };

/** The documents inside the application, and a search over all of them. */
export default function Help() {
  const { doc = "guide" } = useParams();
  const { hash } = useLocation();
  const kept = useKept();
  const [{ q: asked }, put] = useAddress(ADDRESS);
  const found = DOCS.find(([key]) => key === doc);
  const content = useRef<HTMLDivElement>(null);
  const sections = SECTIONS.filter((s) => s.doc === doc);
  useEffect(() => {
    if (!hash) return;
    const heading = content.current?.querySelector<HTMLElement>(`[id="${CSS.escape(hash.slice(1))}"]`);
    heading?.scrollIntoView({ block: "start" });
    heading?.focus({ preventScroll: true });
  }, [hash, doc]);
  const hits = search(asked).slice(0, MOST);
  return (
    <>
      <Heading title="Help" about={found ? found[1] : undefined}>
        <input
          className="input !w-64"
          type="search"
          aria-label="Search the help"
          placeholder="a word, a question …"
          value={asked}
          onChange={(e) => put({ q: e.target.value })}
        />
      </Heading>
      <div className="grid gap-8 lg:grid-cols-[200px_minmax(0,720px)]">
        <nav aria-label="Contents" className="self-start">
          <ul>
            {DOCS.map(([key, title]) => (
              <li key={key}>
                <Link
                  to={kept(`/help/${key}`)}
                  aria-current={key === doc && !asked ? "page" : undefined}
                  className={`row-line flex items-center px-2 ${key === doc ? "font-bold" : ""}`}
                >
                  {title}
                </Link>
                {key === doc && (
                  <ul className="mb-2">
                    {sections
                      .filter((s) => s.level === 2)
                      .map((s) => (
                        <li key={s.slug}>
                          <Link
                            className="flex min-h-6 items-center pl-5 text-[13px] text-second hover:underline"
                            to={`${kept(`/help/${key}`)}#${s.slug}`}
                          >
                            {s.title}
                          </Link>
                        </li>
                      ))}
                  </ul>
                )}
              </li>
            ))}
          </ul>
        </nav>
        <div ref={content}>
          {asked ? (
            hits.length ? (
              <ul className="rows" aria-label="Found">
                {hits.map((s) => (
                  <li key={`${s.doc} ${s.slug}`} className="py-1.5">
                    <Link className="link font-semibold" to={`${kept(`/help/${s.doc}`)}#${s.slug}`}>
                      {s.title}
                    </Link>{" "}
                    <span className="text-second">{titleOfDoc(s.doc)}</span>
                    <p className="line-clamp-2 text-[13px] text-second">{excerpt(s.text, asked)}</p>
                  </li>
                ))}
              </ul>
            ) : (
              <Empty title="Nothing in the help has these words.">Try fewer, or another one.</Empty>
            )
          ) : found ? (
            sections.map((s) => (
              <section key={s.slug}>
                <Title level={s.level} id={s.slug}>
                  {s.title}
                </Title>
                <HelpText text={s.text} />
              </section>
            ))
          ) : (
            <Empty title="There is no such document.">Choose one on the left.</Empty>
          )}
        </div>
      </div>
    </>
  );
}

function Title({ level, id, children }: { level: number; id: string; children: string }) {
  const look = level === 1 ? "text-[20px]" : level === 2 ? "mt-7 text-[17px]" : "mt-5 text-[15px]";
  const Tag = level === 1 ? "h2" : level === 2 ? "h3" : "h4";
  return (
    <Tag id={id} tabIndex={-1} className={`mb-1 font-bold text-ink outline-none ${look}`}>
      {children}
    </Tag>
  );
}

/** The words around the first of those that were asked for, without marks of layout. */
function excerpt(text: string, asked: string): string {
  const plain = text
    .replace(/```\w*|[`*|#[\]]|\(\w+\.md[^)]*\)/g, " ")
    .replace(/\s+/g, " ")
    .trim();
  const first = asked.trim().toLowerCase().split(/\s+/)[0] ?? "";
  const at = Math.max(plain.toLowerCase().indexOf(first), 0);
  return `${at > 60 ? "… " : ""}${plain.slice(Math.max(at - 60, 0), at + 180)} …`;
}
