import { Button, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { slugOf } from "@undercoat/core/pipeline/names";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { ApiProblem, answer, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { counted } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { SuggestedRow } from "./SuggestedRow.tsx";
import { TablePicker } from "./TablePicker.tsx";

/** A new pipeline in one page: tick tables, look at what is suggested, name it. */
export default function NewPipelinePage() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [from, setFrom] = useUrlState("from");
  const [ticked] = useUrlState("tick");
  const [picked, setPicked] = useState<string[]>(ticked ? [ticked] : []);
  const [title, setTitle] = useState("");
  const [warehouse, setWarehouse] = useState<string | null>(null);
  const [schema, setSchema] = useState("landing");
  /** suggested loads that have been changed since, by the table they read */
  const [changed, setChanged] = useState<Record<string, Load>>({});
  const connections = useQuery(queries.connections());
  const others = (connections.data ?? []).filter((row) => row.name !== from);
  useEffect(() => {
    const used = others.find((row) => row.usedBy.some((use) => use.as === "warehouse")) ?? others[0];
    if (!warehouse && from && used) setWarehouse(used.name);
  }, [from, others, warehouse]);
  const suggested = useQuery({
    ...queries.suggested({ connection: from, tables: picked, schema }),
    enabled: from !== "" && picked.length > 0 && schema !== "",
    placeholderData: (before) => before,
  });
  const loads = (picked.length ? (suggested.data ?? []) : []).map((entry) => ({
    ...entry,
    load: changed[entry.name] ?? entry.load,
  }));
  const create = useMutation({
    mutationFn: () => {
      const definition: Pipeline = {
        title,
        warehouse: warehouse ?? "",
        loads: Object.fromEntries(loads.map((entry) => [entry.name, entry.load])),
      };
      return answer(server.pipelines.$post({ json: { name: slugOf(title), definition } }));
    },
    onSuccess: (view) => {
      client.setQueryData(queries.pipeline(view.name).queryKey, view);
      refresh(client, queries.pipelines().queryKey);
      navigate(`/pipelines/${view.name}`);
    },
  });
  const problem = create.error instanceof ApiProblem ? create.error : null;
  const ready = title.trim() !== "" && loads.length > 0 && warehouse !== null;
  if (connections.data?.length === 0)
    return (
      <main className="page">
        <h1>A pipeline needs a source and a warehouse.</h1>
        <p style={{ margin: "10px 0 18px" }}>
          No connection is known yet. Add one for the system to read from and one for the warehouse.
        </p>
        <Button component={Link} to="/connections?new=1">
          Add a connection
        </Button>
      </main>
    );
  return (
    <Page
      title="New pipeline"
      trail={[{ to: "/pipelines", of: "Pipelines" }, "New"]}
      heading={loads.length ? `${counted(loads.length, "table")} to load` : "Tick the tables to load"}
    >
      <TablePicker
        connection={from || null}
        onConnection={(name) => {
          setFrom(name ?? "");
          setPicked([]);
          setChanged({});
        }}
        picked={picked}
        onPicked={setPicked}
      />
      <ErrorNote error={suggested.error} />
      {loads.length > 0 && (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (ready) create.mutate();
          }}
        >
          <h2 style={{ margin: "22px 0 6px" }}>What is suggested</h2>
          <p className="quiet">What is underlined can be changed here; all of it, and more, in the pipeline itself.</p>
          <table className="plain" style={{ margin: "8px 0 16px" }}>
            <thead>
              <tr>
                <th>From</th>
                <th>Into</th>
                <th>Mode</th>
                <th>Key</th>
                <th>Watermark</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {loads.map((entry) => (
                <SuggestedRow
                  key={entry.name}
                  suggested={entry}
                  warehouse={warehouse ?? ""}
                  wrong={(...path) => problem?.at("loads", entry.name, ...path)}
                  onSet={(load) => setChanged({ ...changed, [entry.name]: load })}
                />
              ))}
            </tbody>
          </table>
          <div className="actions" style={{ alignItems: "flex-end" }}>
            <TextInput
              label="Pipeline's title"
              value={title}
              onChange={(event) => setTitle(event.currentTarget.value)}
              style={{ width: 240 }}
              error={problem?.at("name")}
              required
              withAsterisk={false}
            />
            <Select
              label="Warehouse connection"
              data={(connections.data ?? []).map((row) => row.name)}
              value={warehouse}
              onChange={setWarehouse}
              style={{ width: 220 }}
            />
            <TextInput
              label="Schema there"
              value={schema}
              onChange={(event) => setSchema(event.currentTarget.value)}
              style={{ width: 180 }}
            />
            <Button type="submit" loading={create.isPending} disabled={!ready}>
              Make the pipeline
            </Button>
          </div>
          <div style={{ marginTop: 12 }}>
            <ErrorNote error={create.error} />
            {problem?.problem.problems && problem.problem.problems.length > 1 && (
              <ul className="wrong-text">
                {problem.problem.problems.map((entry) => (
                  <li key={entry.path.join(".")}>
                    <span className="mono">{entry.path.join(".")}</span>: {entry.message}
                  </li>
                ))}
              </ul>
            )}
          </div>
        </form>
      )}
    </Page>
  );
}
