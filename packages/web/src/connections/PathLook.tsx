import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { useState } from "react";
import { Link } from "react-router";
import { answer, path as at, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { ErrorNote } from "../parts/words.tsx";
import { FileGlance } from "../pipeline/FileGlance.tsx";

/** Takes an address below a connection's, or all of it, and shows what it gives and how it might be read. */
export function PathLook({ connection }: { connection: string }) {
  const [text, setText] = useState("");
  const look = useMutation({
    mutationFn: () => {
      const { pathname, search } = new URL(text.trim(), "http://below");
      const parameters = Object.fromEntries(new URLSearchParams(search));
      const from = { connection, path: pathname, ...(Object.keys(parameters).length ? { parameters } : {}) };
      return answer(server.connections[":name"].propose.$post({ ...at({ name: connection }), json: { from } }));
    },
  });
  const proposal = look.data;
  const glance = useQuery({
    ...queries.glance(proposal?.from ?? { connection, path: "" }),
    enabled: proposal !== undefined,
  });
  return (
    <section aria-label="What a path gives" style={{ marginBottom: 18 }}>
      <form
        className="actions"
        style={{ alignItems: "flex-end" }}
        onSubmit={(event) => {
          event.preventDefault();
          look.mutate();
        }}
      >
        <TextInput
          label="Look at a path"
          description="Below its address, with parameters behind a question mark where it takes some"
          placeholder="/scans?limit=100"
          value={text}
          onChange={(event) => setText(event.currentTarget.value)}
          style={{ width: 520 }}
          classNames={{ input: "mono" }}
        />
        <Button type="submit" variant="outline" loading={look.isPending} disabled={!text.trim().startsWith("/")}>
          Look
        </Button>
      </form>
      <ErrorNote error={look.error} />
      {proposal && (
        <div style={{ marginTop: 12 }}>
          <h2 style={{ marginBottom: 6 }}>What was found out</h2>
          <ul style={{ margin: "0 0 10px", paddingLeft: 18 }}>
            {proposal.tried.map(({ words, holds }) => (
              <li key={words}>
                <span className={holds ? "good" : "quiet"}>{holds ? "holds" : "does not hold"}</span>: {words}
              </li>
            ))}
            {proposal.key && (
              <li>
                <span className="mono">{proposal.key}</span> seems to identify a record
                {proposal.changes && (
                  <>
                    , <span className="mono">{proposal.changes}</span> to tell of its changes
                  </>
                )}
              </li>
            )}
          </ul>
          <FileGlance glance={glance.data} error={glance.error} />
          <p style={{ marginTop: 10 }}>
            <Link
              to={`/pipelines/new?from=${connection}&tick=${encodeURIComponent(formatTableName({ schema: ".", table: proposal.from.path ?? "" }))}`}
            >
              Load it
            </Link>
          </p>
        </div>
      )}
    </section>
  );
}
