import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { VersionView } from "@undercoat/core/api/api";
import { orderedPipeline } from "@undercoat/core/pipeline/ordered";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { diffLines } from "diff";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { stringify } from "yaml";
import { useCanEdit } from "../account/me.ts";
import { path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { counted, moment } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";

/** A version as the project file writes it, and behind it the modules that it read by then. */
const written = ({ definition, modules }: { definition: unknown; modules: Record<string, string> }) =>
  [
    stringify(orderedPipeline(definition as Pipeline), { lineWidth: 76 }),
    ...Object.entries(modules).map(([file, text]) => `# the module ${file}\n${text}`),
  ].join("\n");

/** A line of both texts: what stands on the left, on the right, or on both. */
interface Line {
  left: string | null;
  right: string | null;
}

/** Two texts line by line; what was replaced stands beside what replaced it. */
export function sideBySide(before: string, after: string): Line[] {
  const lines: Line[] = [];
  let gone: string[] = [];
  const settle = (come: string[]) => {
    for (let at = 0; at < Math.max(gone.length, come.length); at++)
      lines.push({ left: gone[at] ?? null, right: come[at] ?? null });
    gone = [];
  };
  for (const part of diffLines(before, after)) {
    const texts = part.value.replace(/\n$/, "").split("\n");
    if (part.removed) gone.push(...texts);
    else if (part.added) settle(texts);
    else {
      settle([]);
      for (const text of texts) lines.push({ left: text, right: text });
    }
  }
  settle([]);
  return lines;
}

/** Lines around what differs; what is alike for long is left out. */
function near(lines: Line[], around = 3): (Line | null)[] {
  const differing = lines.map(({ left, right }) => left !== right);
  const shown = lines.map((_, at) => differing.slice(Math.max(0, at - around), at + around + 1).some(Boolean));
  return lines.flatMap((line, at) => (shown[at] ? [line] : at > 0 && shown[at - 1] ? [null] : []));
}

/** What differs between two versions, as the project file writes them. */
function Difference({ name, from, to }: { name: string; from: number; to: number }) {
  const before = useQuery(queries.version(name, from));
  const after = useQuery(queries.version(name, to));
  if (!before.data || !after.data) return <ErrorNote error={before.error ?? after.error} />;
  const lines = near(sideBySide(written(before.data), written(after.data)));
  return (
    <table className="difference" aria-label={`Version ${from} beside version ${to}`}>
      <thead>
        <tr>
          <th>version {from}</th>
          <th>version {to}</th>
        </tr>
      </thead>
      <tbody>
        {lines.length === 0 && (
          <tr>
            <td colSpan={2} className="quiet">
              They say the same.
            </td>
          </tr>
        )}
        {lines.map((line, at) =>
          line === null ? (
            <tr key={at}>
              <td colSpan={2} className="quiet">
                …
              </td>
            </tr>
          ) : (
            <tr key={at}>
              <td className={line.left !== line.right && line.left !== null ? "went" : undefined}>{line.left}</td>
              <td className={line.left !== line.right && line.right !== null ? "came" : undefined}>{line.right}</td>
            </tr>
          ),
        )}
      </tbody>
    </table>
  );
}

function Naming({ pipeline, version }: { pipeline: string; version: VersionView }) {
  const client = useQueryClient();
  const [name, setName] = useState(version.name ?? "");
  const save = useMutation({
    mutationFn: () =>
      server.pipelines[":name"].versions[":number"].$patch({
        ...path({ name: pipeline, number: String(version.number) }),
        json: { name: name.trim() || null },
      }),
    onSuccess: () => refresh(client, queries.versions(pipeline).queryKey),
  });
  return (
    <form
      className="actions"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <TextInput
        size="xs"
        aria-label={`A name for version ${version.number}`}
        placeholder="call it something"
        value={name}
        onChange={(event) => setName(event.currentTarget.value)}
        w={170}
      />
      <Button type="submit" size="xs" variant="default" disabled={name.trim() === (version.name ?? "")}>
        Name it
      </Button>
      <ErrorNote error={save.error} />
    </form>
  );
}

/** A pipeline as it was saved, time after time: who changed what, and the way back. */
export default function VersionsPage() {
  const { name = "" } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const canEdit = useCanEdit();
  const [chosen, setChosen] = useUrlState("version");
  const { data, error } = useQuery(queries.versions(name));
  const restore = useMutation({
    mutationFn: (number: number) =>
      server.pipelines[":name"].versions[":number"].restore.$post(path({ name, number: String(number) })),
    onSuccess: () => {
      refresh(client, queries.pipelines().queryKey);
      navigate(`/pipelines/${name}`);
    },
  });
  if (!data) return <Unanswered error={error} />;
  const latest = data[0]?.number ?? 1;
  const number = Number(chosen) || latest;
  const version = data.find((one) => one.number === number);
  return (
    <Page
      title={`Versions of ${name}`}
      trail={[{ to: "/pipelines", of: "Pipelines" }, { to: `/pipelines/${name}`, of: name }, "Versions"]}
      heading={`${counted(latest, "version")} of ${name}`}
      about="Each save is one, and each run keeps the one that it ran."
    >
      <ErrorNote error={restore.error} />
      <div className="columns" style={{ gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1.7fr)" }}>
        <nav aria-label="Versions" className="versions">
          {data.map((one) => (
            <button
              key={one.number}
              type="button"
              className="load-link"
              aria-current={one.number === number ? "page" : undefined}
              onClick={() => setChosen(String(one.number))}
            >
              <span className="strong">
                {one.number}
                {one.name && ` · ${one.name}`}
              </span>{" "}
              <span className="quiet">
                {one.author ?? "by itself"}, {moment(one.at)}
              </span>
              {one.note && <div>{one.note}</div>}
              <div className="quiet">{one.changes === null ? "the first" : one.changes || "nothing differs"}</div>
            </button>
          ))}
        </nav>
        <section aria-label="What differs">
          {version && (
            <div className="head" style={{ alignItems: "center", marginBottom: 8 }}>
              <h2>{number === latest ? `Version ${number}, as it is now` : `Version ${number}`}</h2>
              {canEdit && (
                <div className="actions">
                  <Naming key={number} pipeline={name} version={version} />
                  {number !== latest && (
                    <Button size="xs" loading={restore.isPending} onClick={() => restore.mutate(number)}>
                      Make it the current one
                    </Button>
                  )}
                </div>
              )}
            </div>
          )}
          {number > 1 ? (
            <Difference name={name} from={number - 1} to={number} />
          ) : (
            <p className="quiet">Nothing was saved before it.</p>
          )}
          {number !== latest && number !== latest - 1 && (
            <>
              <h3 style={{ marginTop: 18 }}>Beside what is saved now</h3>
              <Difference name={name} from={number} to={latest} />
            </>
          )}
        </section>
      </div>
    </Page>
  );
}
