import { useQuery } from "@tanstack/react-query";
import type { WarehouseTable } from "@undercoat/core/api/api";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { Link } from "react-router";
import { queries } from "../api/queries.ts";
import { FirstRows } from "../connections/FirstRows.tsx";
import { historyLink } from "../history/links.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { Filter, matches } from "../parts/Filter.tsx";
import { bytes, counted, grouped, moment } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, FailureNote } from "../parts/words.tsx";

export default function WarehousePage() {
  const [wanted, setWanted] = useUrlState("find");
  const [open, setOpen] = useUrlState("table");
  const { data: view, error } = useQuery(queries.warehouse());
  const data = view?.tables;
  const id = (row: WarehouseTable) => `${row.connection}/${row.schema}.${row.name}`;
  const chosen = data?.find((row) => id(row) === open);
  const rows = useQuery({
    ...queries.rows(
      { connection: chosen?.connection ?? "", schema: chosen?.schema ?? "", table: chosen?.name ?? "" },
      200,
    ),
    enabled: chosen !== undefined,
  });
  const shown = (data ?? []).filter((row) => matches(wanted, `${row.schema}.${row.name}`));
  const size = (data ?? []).reduce((sum, row) => sum + Number(row.bytes ?? 0), 0);
  const loaded = (data ?? []).filter((row) => row.pipeline).length;
  const left = (data ?? []).filter((row) => row.once).length;
  return (
    <Page
      title="Warehouse"
      heading={
        !data
          ? "Warehouse"
          : data.length
            ? `${counted(data.length, "table")}, ${bytes(size)}`
            : view?.unreachable.length
              ? "The warehouse can't be reached"
              : "The warehouse is empty"
      }
      about={
        data?.length
          ? `${loaded} of them ${loaded === 1 ? "is" : "are"} loaded by a pipeline${left ? `, ${left} no longer` : ""}.`
          : data
            ? "A pipeline makes its tables when it first runs."
            : ""
      }
      actions={<Filter of="tables" value={wanted} onChange={setWanted} />}
    >
      <ErrorNote error={error} />
      {view?.unreachable.map(({ connection, failure }) => (
        <FailureNote
          key={connection}
          failure={{ ...failure, message: `The tables of ${connection} can't be shown: ${failure.message}` }}
        />
      ))}
      {shown.length > 0 && (
        <DataTable
          label="Tables of the warehouse"
          height={chosen ? 250 : "calc(100vh - 220px)"}
          rows={shown}
          rowKey={id}
          chosen={() => false}
          onOpen={(row) => setOpen(open === id(row) ? "" : id(row))}
          columns={[
            {
              head: "Table",
              width: "minmax(0, 1.4fr)",
              cell: (row) => (
                <>
                  <span className={`mono${open === id(row) ? " strong" : ""}`}>
                    {row.schema}.{row.name}
                  </span>{" "}
                  {row.history && (
                    <Link
                      to={historyLink({
                        connection: row.connection,
                        target: formatTableName({ schema: row.schema, table: row.name }),
                      })}
                      onClick={(event) => event.stopPropagation()}
                    >
                      through time
                    </Link>
                  )}
                </>
              ),
            },
            { head: "Connection", width: "minmax(0, 0.7fr)", cell: (row) => row.connection },
            {
              head: "Rows",
              width: "120px",
              right: true,
              cell: (row) => <span className="mono">{grouped(row.rows)}</span>,
            },
            {
              head: "Size",
              width: "100px",
              right: true,
              cell: (row) => <span className="mono">{bytes(row.bytes)}</span>,
            },
            {
              head: "Loaded by",
              width: "minmax(0, 1fr)",
              cell: (row) =>
                row.pipeline ? (
                  <Link to={`/pipelines/${row.pipeline}/${row.load}`} onClick={(event) => event.stopPropagation()}>
                    {row.pipeline} · {row.load}
                  </Link>
                ) : (
                  <span className="quiet" title={row.comment ?? undefined}>
                    {row.once
                      ? `no pipeline any more; ${row.once} did`
                      : (row.comment?.replace(/^Undercoat: /, "") ?? "no pipeline here")}
                  </span>
                ),
            },
            {
              head: "Last loaded",
              width: "160px",
              cell: (row) => <span className="quiet">{row.loadedAt ? moment(row.loadedAt) : "–"}</span>,
            },
          ]}
        />
      )}
      {data && data.length > 0 && shown.length === 0 && <p className="quiet">No table has “{wanted}” in its name.</p>}
      {chosen && (
        <section style={{ marginTop: 20 }} aria-label="Rows">
          <h2 className="mono" style={{ fontWeight: 500 }}>
            {chosen.schema}.{chosen.name}
          </h2>
          <ErrorNote error={rows.error} />
          <FirstRows rows={rows.data} busy={rows.isFetching} />
        </section>
      )}
    </Page>
  );
}
