import Markdown from "react-markdown";
import { Link } from "react-router";
import remarkGfm from "remark-gfm";
import { useKept } from "../parts/lookback-state";
import { DOCS, slugOf } from "./sections";

/** A part of the documents, laid out. Links between them stay inside; pictures are left out. */
export default function HelpText({ text }: { text: string }) {
  const kept = useKept();
  return (
    <div className="help">
      <Markdown
        remarkPlugins={[remarkGfm]}
        components={{
          img: () => null,
          pre: ({ children }) => <pre tabIndex={0}>{children}</pre>, // it may be wider than its place
          a: ({ href = "", children }) => {
            const [, doc, part] = /^(?:\.\/)?([a-z]+)\.md(?:#(.*))?$/.exec(href) ?? [];
            if (doc && DOCS.some(([key]) => key === doc))
              return (
                <Link className="link" to={`${kept(`/help/${doc}`)}${part ? `#${slugOf(part)}` : ""}`}>
                  {children}
                </Link>
              );
            return href.startsWith("/") ? (
              <a className="link" href={href}>
                {children}
              </a>
            ) : (
              <>{children}</>
            );
          },
        }}
      >
        {text}
      </Markdown>
    </div>
  );
}
