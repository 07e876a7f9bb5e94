import Markdown from "react-markdown";
import { Link, Navigate, NavLink, useParams } from "react-router";
import remarkGfm from "remark-gfm";
import built from "../../../../docs/architecture.md?raw";
import speed from "../../../../docs/bench.md?raw";
import file from "../../../../docs/project-file.md?raw";
import { Title } from "../parts/Title.tsx";

const papers: Record<string, { title: string; text: string }> = {
  "project-file": { title: "The project file and the command line", text: file },
  architecture: { title: "How it is built, and what always holds", text: built },
  bench: { title: "How fast it is", text: speed },
};

/** The product's own papers, of the very version that runs. */
export default function DocsPage() {
  const { paper = "" } = useParams();
  const open = Object.hasOwn(papers, paper) ? papers[paper] : undefined;
  if (!paper) return <Navigate to="/docs/project-file" replace />;
  return (
    <main className="page docs">
      <Title of={open?.title ?? "Docs"} />
      <nav aria-label="Papers">
        {Object.entries(papers).map(([name, { title }]) => (
          <NavLink key={name} to={`/docs/${name}`}>
            {title}
          </NavLink>
        ))}
      </nav>
      <article>
        {open ? (
          <Markdown
            remarkPlugins={[remarkGfm]}
            components={{
              a: ({ href = "", children }) => {
                const name = /^([a-z-]+)\.md$/.exec(href)?.[1];
                return name && Object.hasOwn(papers, name) ? (
                  <Link to={`/docs/${name}`}>{children}</Link>
                ) : (
                  <span>{children}</span>
                );
              },
              pre: ({ children }) => (
                <pre className="sql" tabIndex={0}>
                  {children}
                </pre>
              ),
              table: ({ children }) => <table className="plain">{children}</table>,
            }}
          >
            {open.text}
          </Markdown>
        ) : (
          <h1>There is no paper {paper}</h1>
        )}
      </article>
    </main>
  );
}
