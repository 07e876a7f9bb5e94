import { kinds } from "../connection/kinds.ts";
import type { ConnectionSettings, From } from "../pipeline/pipeline.ts";
import { formatTableName, parseTableName, type TableName } from "../sql/identifier.ts";
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
  return kinds[kind].asks ? { connection, table: formatTableName(item) } : { connection, files: filePath(item) };
}

/** The one listed thing that a load reads; null where it reads a query, several tables or a pattern of files. */
export function itemOf({ table, files }: From): TableName | null {
  if (files !== undefined) return /[*?[{]/.test(files) ? null : fileItem(files);
  return table === undefined ? null : parseTableName(table);
}

/** A short name for a listed thing: a table's, or a file's without its ending. */
export const bareName = ({ files }: From, { table }: TableName) =>
  files === undefined ? table : table.replace(/\.[a-z]+(\.gz)?$/i, "");

/** A listed thing's name as people read it. */
export const listedName = ({ schema, name, kind }: Pick<DatasetSummary, "schema" | "name" | "kind">) =>
  kind === "file" ? filePath({ schema, table: name }) : `${schema}.${name}`;
