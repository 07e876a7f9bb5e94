import { Tabs } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import { listedName } from "@undercoat/core/dataset/item";
import { shortType } from "@undercoat/core/sql/type";
import { queries } from "../api/queries.ts";
import { grouped } from "../parts/format.ts";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { FirstRows } from "./FirstRows.tsx";

interface Props {
  connection: string;
  summary: DatasetSummary;
}

function Columns({ dataset }: { dataset: Dataset }) {
  const keyed = (name: string) => dataset.indexes.filter((index) => index.columns.includes(name));
  return (
    <>
      <table className="plain">
        <thead>
          <tr>
            <th>Column</th>
            <th>Type</th>
            <th>Null</th>
            <th>In</th>
          </tr>
        </thead>
        <tbody>
          {dataset.columns.map((column) => (
            <tr key={column.name}>
              <td className="mono">{column.name}</td>
              <td>
                {shortType(column.declared)}
                {column.fits && <span className="quiet">, {shortType(column.fits)} as its values fit</span>}
                {column.decimal && column.fits === "numeric" && <span className="quiet"> with decimal commas</span>}
                {shortType(column.declared) !== shortType(column.warehouseType) && (
                  <span className="quiet"> → {shortType(column.warehouseType)} in a warehouse</span>
                )}
                {column.generated && <span className="quiet">, generated</span>}
              </td>
              <td>{column.notNull ? "never" : "may be"}</td>
              <td className="quiet">
                {keyed(column.name)
                  .map((index) => (index.primary ? "primary key" : index.unique ? "unique index" : "index"))
                  .filter((word, at, all) => all.indexOf(word) === at)
                  .join(", ")}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {dataset.indexes.length > 0 && (
        <p className="quiet" style={{ marginTop: 10 }}>
          {dataset.indexes
            .map(
              (index) =>
                `${index.name} (${index.columns.join(", ")})${index.primary ? ", primary key" : index.unique ? ", unique" : ""}`,
            )
            .join("; ")}
        </p>
      )}
    </>
  );
}

function Time({ columns }: { columns: TimeColumn[] }) {
  if (columns.length === 0)
    return (
      <p>
        No column could tell what changed: none is a date, a time or a growing number. The whole table is read every
        time.
      </p>
    );
  return (
    <table className="plain">
      <thead>
        <tr>
          <th>Column</th>
          <th>Earliest</th>
          <th>Latest</th>
          <th>Grain</th>
          <th>Judgement</th>
        </tr>
      </thead>
      <tbody>
        {columns.map((column) => (
          <tr key={column.column}>
            <td>
              <span className="mono">{column.column}</span>{" "}
              {column.suggested && <span className="badge good">suggested</span>}
            </td>
            <td className="mono">{grouped(column.earliest)}</td>
            <td className="mono">{grouped(column.latest)}</td>
            <td>
              {column.grain ?? "–"}
              {column.sampled && <div className="quiet">of {grouped(column.sampled)} rows looked at</div>}
            </td>
            <td className="quiet">
              {column.why}
              {column.nulls && "; may be null"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What there is to know of one table: columns and keys, first rows, and what could tell its changes. */
export function DatasetDetail({ connection, summary }: Props) {
  const [tab, setTab] = useUrlState("show");
  const shown = tab || "columns";
  const place = { connection, schema: summary.schema, table: summary.name };
  const dataset = useQuery(queries.dataset(place));
  const rows = useQuery({
    ...queries.rows(place),
    enabled: shown === "rows",
  });
  const time = useQuery({
    ...queries.timeColumns(place),
    enabled: shown === "time",
  });
  return (
    <section aria-label={listedName(summary)} style={{ minWidth: 0 }}>
      <h2 className="mono" style={{ fontWeight: 500, marginBottom: 6 }}>
        {listedName(summary)}
      </h2>
      <Tabs value={shown} onChange={(value) => setTab(value ?? "")} keepMounted={false}>
        <Tabs.List>
          <Tabs.Tab value="columns">Columns</Tabs.Tab>
          <Tabs.Tab value="rows">First rows</Tabs.Tab>
          {summary.kind !== "file" && <Tabs.Tab value="time">Time</Tabs.Tab>}
        </Tabs.List>
        <Tabs.Panel value="columns" pt="sm">
          <ErrorNote error={dataset.error} />
          {dataset.data && <Columns dataset={dataset.data} />}
        </Tabs.Panel>
        <Tabs.Panel value="rows" pt="sm">
          <ErrorNote error={rows.error} />
          <FirstRows rows={rows.data} busy={rows.isFetching} height={430} />
        </Tabs.Panel>
        <Tabs.Panel value="time" pt="sm">
          <ErrorNote error={time.error} />
          {time.data ? (
            <Time columns={time.data} />
          ) : (
            <p className="quiet">{time.isFetching ? "Looking at the columns" : ""}</p>
          )}
        </Tabs.Panel>
      </Tabs>
    </section>
  );
}
