import { Button, Modal, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ConnectionView } from "@undercoat/core/api/api";
import type { DatasetSummary } from "@undercoat/core/dataset/dataset";
import { listedName } from "@undercoat/core/dataset/item";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { Confirm } from "../parts/Confirm.tsx";
import { DataTable } from "../parts/DataTable.tsx";
import { Filter, matches } from "../parts/Filter.tsx";
import { bytes, counted, grouped } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { ConnectionForm } from "./ConnectionForm.tsx";
import { ConsentNote } from "./ConsentNote.tsx";
import { DatasetDetail } from "./DatasetDetail.tsx";
import { FileDrop } from "./FileDrop.tsx";
import { PathLook } from "./PathLook.tsx";

function Duplicate({ connection, onClose }: { connection: ConnectionView; onClose: () => void }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [name, setName] = useState(`${connection.name}-copy`);
  const copy = useMutation({
    mutationFn: () =>
      answer(server.connections[":name"].duplicate.$post({ ...path({ name: connection.name }), json: { name } })),
    onSuccess: (made) => {
      refresh(client, queries.connections().queryKey);
      onClose();
      navigate(`/connections/${made.name}`);
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Duplicate ${connection.name}`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          copy.mutate();
        }}
      >
        <TextInput
          label="Name of the copy"
          description="Its password is copied too"
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
          error={copy.error instanceof ApiProblem ? (copy.error.at("name") ?? copy.error.message) : null}
          data-autofocus
        />
        <Button type="submit" mt="sm" loading={copy.isPending}>
          Duplicate
        </Button>
      </form>
    </Modal>
  );
}

/** What a connection lists, by one of them. */
const nouns: Record<ConnectionView["about"]["lists"], [one: string, many: string]> = {
  tables: ["table", "tables"],
  files: ["file", "files"],
  resources: ["path", "paths"],
  sets: ["set of records", "sets of records"],
};
const heads = { tables: "Table", files: "File", resources: "Path", sets: "Set of records" } as const;

export default function ConnectionPage() {
  const { name = "" } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const canEdit = useCanEdit();
  const [wanted, setWanted] = useUrlState("find");
  const [open, setOpen] = useUrlState("table");
  const [dialog, setDialog] = useState<"edit" | "duplicate" | "delete" | null>(null);
  const connection = useQuery(queries.connection(name));
  const datasets = useQuery({
    ...queries.datasets(name),
    // Without consent there is nothing to be seen.
    enabled: connection.data !== undefined && connection.data.consent !== "missing",
    retry: false,
  });
  const remove = useMutation({
    mutationFn: () => server.connections[":name"].$delete(path({ name })),
    onSuccess: () => {
      client.invalidateQueries({ ...queries.connections(), exact: true });
      navigate("/connections");
    },
  });
  if (!connection.data) return <Unanswered error={connection.error} />;
  const view = connection.data;
  const web = view.about.lists === "resources" || view.about.lists === "sets";
  const id = (row: DatasetSummary) => JSON.stringify([row.schema, row.name]);
  const rows = (datasets.data ?? []).filter((row) => matches(wanted, listedName(row)));
  const chosen = datasets.data?.find((row) => id(row) === open);
  return (
    <Page
      title={connection.data.name}
      trail={[{ to: "/connections", of: "Connections" }, name]}
      heading={name}
      about={
        <>
          {view.about.title}: <span className="mono">{view.about.place}</span>
          {view.about.manner && `, as ${view.about.manner}`}.{" "}
          {view.usedBy.length > 0 && (
            <>
              Used by{" "}
              {[...new Map(view.usedBy.map((use) => [use.pipeline, use.title]))].map(([pipeline, title], at) => (
                <span key={pipeline}>
                  {at > 0 && ", "}
                  <Link to={`/pipelines/${pipeline}`}>{title}</Link>
                </span>
              ))}
              .
            </>
          )}
        </>
      }
      actions={
        canEdit && (
          <div className="actions" style={{ flexWrap: "nowrap" }}>
            <Button variant="default" onClick={() => setDialog("delete")}>
              Delete
            </Button>
            <Button variant="default" onClick={() => setDialog("duplicate")}>
              Duplicate
            </Button>
            <Button variant="outline" onClick={() => setDialog("edit")}>
              Change or check
            </Button>
            <Button component={Link} to={`/pipelines/new?from=${name}`}>
              Load from it
            </Button>
          </div>
        )
      }
    >
      <ErrorNote error={remove.error ?? datasets.error} />
      {view.about.takes && canEdit && <FileDrop connection={name} />}
      {view.consent && <ConsentNote connection={view} />}
      {view.about.lists === "resources" && view.consent !== "missing" && canEdit && <PathLook connection={name} />}
      {datasets.data && (datasets.data.length > 0 || view.about.lists !== "resources") && (
        <div
          className="columns"
          style={{ gridTemplateColumns: chosen ? "minmax(0, 5fr) minmax(0, 7fr)" : "minmax(0, 1fr)" }}
        >
          <section aria-label="Tables">
            <div className="actions" style={{ marginBottom: 8, justifyContent: "space-between" }}>
              <span className="quiet">
                {counted(datasets.data.length, ...nouns[view.about.lists])} can be read
                {wanted ? `, ${rows.length} shown` : ""}
              </span>
              <Filter of="tables" value={wanted} onChange={setWanted} w={190} />
            </div>
            <DataTable
              label="Tables and views"
              height="calc(100vh - 260px)"
              rows={rows}
              rowKey={id}
              onOpen={(row) => setOpen(open === id(row) ? "" : id(row))}
              columns={[
                {
                  head: heads[view.about.lists],
                  width: "minmax(0, 2fr)",
                  cell: (row) => <span className={`mono${open === id(row) ? " strong" : ""}`}>{listedName(row)}</span>,
                },
                ...(chosen
                  ? []
                  : [
                      web
                        ? {
                            head: "What it gives",
                            width: "minmax(0, 2fr)",
                            cell: (row: DatasetSummary) => row.comment ?? "",
                          }
                        : view.about.asks
                          ? { head: "Kind", width: "150px", cell: (row: DatasetSummary) => row.kind }
                          : {
                              head: "Changed",
                              width: "220px",
                              cell: (row: DatasetSummary) => row.comment?.replace("changed ", ""),
                            },
                    ]),
                ...(view.about.asks
                  ? [
                      {
                        head: "Rows, about",
                        width: "110px",
                        right: true,
                        cell: (row: DatasetSummary) => <span className="mono">{grouped(row.rows)}</span>,
                      },
                    ]
                  : []),
                ...(web
                  ? []
                  : [
                      {
                        head: "Size",
                        width: "90px",
                        right: true,
                        cell: (row: DatasetSummary) => <span className="mono">{bytes(row.bytes)}</span>,
                      },
                    ]),
              ]}
            />
          </section>
          {chosen && <DatasetDetail key={open} connection={name} summary={chosen} />}
        </div>
      )}
      {dialog === "edit" && <ConnectionForm connection={view} onClose={() => setDialog(null)} />}
      {dialog === "duplicate" && <Duplicate connection={view} onClose={() => setDialog(null)} />}
      {dialog === "delete" && (
        <Confirm
          title={`Delete ${name}`}
          name={name}
          action="Delete it"
          onClose={() => setDialog(null)}
          onConfirm={() => {
            setDialog(null);
            remove.mutate();
          }}
        >
          Its address and password are forgotten. The system it names is not touched.
        </Confirm>
      )}
    </Page>
  );
}
