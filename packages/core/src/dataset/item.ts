import { kinds } from "../connection/kinds.ts";
import type { ConnectionSettings, From } from "../pipeline/pipeline.ts";
import { formatTableName, parseSourceName, type TableName } from "../sql/identifier.ts";
import type { DatasetSummary } from "./dataset.ts";

/** What a source lists has two names: a table's schema and its own, or a file's folder (`.` for none) and its own. */

/** The path of a file that is listed by its folder and name. */
export const filePath = ({ schema, table }: TableName) => (schema === "." ? table : `${schema}/${table}`);

/** A file's folder and name. */
export function fileItem(path: string): TableName {
  const at = path.lastIndexOf("/");
  return at < 0 ? { schema: ".", table: path } : { schema: path.slice(0, at), table: path.slice(at + 1) };
}

/** What a load reads that takes one listed thing. */
export function fromItem(connection: string, kind: ConnectionSettings["kind"], item: TableName): From {
  const { lists } = kinds[kind];
  if (lists === "sets") return { connection, table: item.table };
  if (lists === "resources") return { connection, path: item.table };
  return lists === "tables" ? { connection, table: formatTableName(item) } : { connection, files: filePath(item) };
}

/** The one listed thing that a load reads; null where it reads a query, several tables or a pattern of files. */
export function itemOf({ table, files, path }: From): TableName | null {
  if (path !== undefined) return { schema: ".", table: path };
  if (files !== undefined) return /[*?[{]/.test(files) ? null : fileItem(files);
  return table === undefined ? null : parseSourceName(table);
}

/** A short name for a listed thing: a table's, or a file's without its ending. */
export const bareName = ({ files, path }: From, { table }: TableName) =>
  path !== undefined
    ? (table.split("/").findLast((part) => part && !part.startsWith("{")) ?? "record")
    : files === undefined
      ? table
      : table.replace(/\.[a-z]+(\.gz)?$/i, "");

/** A listed thing's name as people read it. */
export const listedName = ({ schema, name, kind }: Pick<DatasetSummary, "schema" | "name" | "kind">) =>
  kind === "file" ? filePath({ schema, table: name }) : kind === "resource" ? name : `${schema}.${name}`;
