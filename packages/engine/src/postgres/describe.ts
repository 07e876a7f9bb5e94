import type { Dataset } from "@undercoat/core/dataset/dataset";
import { admit, asSubquery, checkQuery, ExpressionError } from "@undercoat/core/expression/parse";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { PlanError } from "@undercoat/core/plan/error";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Analysis } from "@undercoat/core/shape/analyse";
import { findTable, resultColumns, tableColumns, tableIndexes } from "@undercoat/core/sql/catalog";
import { conversion, keeps } from "@undercoat/core/sql/convert";
import { parseTableName, qualified, type TableName } from "@undercoat/core/sql/identifier";
import { conditionOver, emptyResult, marked, typedNothing } from "@undercoat/core/sql/look";
import { type ColumnType, shortType, warehouseType } from "@undercoat/core/sql/type";
import type { Row } from "../connection/credentials.ts";
import { LoadFailure, NoTable, type ServerError } from "../failure.ts";
import { arrayText } from "./array.ts";
import { admitCalls } from "./functions.ts";
import type { Session } from "./session.ts";

function columnsOf(rows: Row[]): Dataset["columns"] {
  return rows.map((row) => {
    const type: ColumnType = {
      resolved: row.resolved ?? "text",
      kind: row.kind ?? "b",
      builtIn: row.built_in === "t",
      ...(row.element
        ? { element: { resolved: row.element, kind: row.element_kind ?? "b", builtIn: row.element_built_in === "t" } }
        : {}),
    };
    return {
      name: row.name ?? "",
      declared: row.declared ?? "",
      type,
      warehouseType: warehouseType(type),
      notNull: row.not_null === "t",
      generated: row.generated === "t",
      hasDefault: row.has_default === "t",
      comment: row.comment ?? null,
    };
  });
}

/** A table's columns and indexes; null where this user sees no such table. */
export async function findDataset(session: Session, table: TableName): Promise<Dataset | null> {
  const found = await session.one(findTable, [table.schema, table.table]);
  if (!found.oid) return null;
  const columns = columnsOf(await session.query(tableColumns, [found.oid]));
  const indexes = (await session.query(tableIndexes, [found.oid])).map((row) => ({
    name: row.name ?? "",
    columns: JSON.parse(row.columns ?? "[]") as string[],
    unique: row.is_unique === "t",
    primary: row.is_primary === "t",
  }));
  return { columns, indexes };
}

/** True where the server refuses what a statement says, not who says it or when: syntax, names, types and literals. */
function isOfTheText(error: unknown): boolean {
  const { severity, code = "" } = error as ServerError;
  return severity !== undefined && /^(42(?!501)|22|0A)/.test(code);
}

/** An error of SQL that a person wrote, with its place in their text, which stands in the statement from `start`; other errors as they are. */
function misplaced(error: unknown, path: string[], start = 0): unknown {
  const { message, hint, position } = error as ServerError;
  if (error instanceof ExpressionError) return new PlanError(error.message, path, error.position);
  if (!isOfTheText(error)) return error;
  const at = position === undefined ? null : Math.max(0, Number(position) - 1 - start);
  // A row's own name in our statement is none that the author knows.
  const advice = hint ? ` (${hint.replaceAll('"s.', '"')})` : "";
  return Object.assign(new PlanError(`${message}${advice}`, path, at), { cause: error });
}

/** @throws PlanError with the fault's place where a condition is none over the rows that a load reads */
async function admitCondition(session: Session, from: From, where: string): Promise<void> {
  const path = ["from", "where"];
  await admit(where, "condition").catch((error) => {
    throw misplaced(error, path);
  });
  const [table = from.table ?? ""] = Object.values(from.tables ?? {});
  const relation = from.query
    ? asSubquery(from.query)
    : from.tables
      ? marked(parseTableName(table), from.origin ?? "origin")
      : qualified(parseTableName(table));
  const statement = conditionOver(relation, where);
  const [field] = await session.columns(statement).catch((error) => {
    throw misplaced(error, path, statement.indexOf(where));
  });
  if (field && field.type !== booleanOid)
    throw new PlanError("A condition says true or false; this one gives another value", path);
}

/**
 * The columns of what a load reads. A query and a condition are admitted by their parse trees first.
 * @throws LoadFailure when there is no such table; PlanError with the path and the place where SQL may not be used.
 */
export async function describe(session: Session, from: From): Promise<Dataset> {
  const dataset = await described(session, from);
  if (from.where) await admitCondition(session, from, from.where);
  return dataset;
}

async function described(session: Session, from: From): Promise<Dataset> {
  if (from.query) {
    const { query } = from;
    const path = ["from", "query"];
    await checkQuery(query).catch((error) => {
      throw misplaced(error, path);
    });
    await admitCalls(session, query);
    const statement = emptyResult(asSubquery(query));
    const fields = await session.columns(statement).catch((error) => {
      const start = statement.indexOf(query.trim().replace(/;\s*$/, ""));
      throw misplaced(error, path, start - (query.length - query.trimStart().length));
    });
    const repeated = fields.find((field, at) => fields.findIndex((other) => other.name === field.name) < at);
    if (repeated)
      throw new LoadFailure({
        message: `The query gives two columns the name ${repeated.name}`,
        hint: "Give one of them another name with AS.",
      });
    const arrays = [
      fields.map((field) => field.name),
      fields.map((field) => field.type),
      fields.map((field) => field.modifier),
    ].map(arrayText);
    return { columns: columnsOf(await session.query(resultColumns, arrays)), indexes: [] };
  }
  if (from.tables) return describeUnion(session, from.tables, from.origin ?? "origin");
  const table = parseTableName(from.table ?? "");
  const dataset = await findDataset(session, table);
  if (!dataset)
    throw new NoTable({
      message: `${session.place.name} has no table ${from.table}, or ${session.place.user} may not see it`,
      hint: "Choose another table, or grant the right to read this one.",
    });
  return dataset;
}

/** Several tables as one dataset: the columns of the first, which the others must have too, and the column of marks. */
async function describeUnion(session: Session, tables: Record<string, string>, origin: string): Promise<Dataset> {
  const described: { table: string; dataset: Dataset }[] = [];
  for (const table of Object.values(tables))
    described.push({ table, dataset: await describe(session, { connection: "", table }) });
  const [first, ...others] = described;
  if (!first) throw new LoadFailure({ message: "The load names no table" });
  if (first.dataset.columns.some((column) => column.name === origin))
    throw new LoadFailure({
      message: `${first.table} has a column ${origin} of its own`,
      hint: "Choose another name for the column that says where a row came from.",
    });
  for (const { table, dataset } of others) {
    const other = first.dataset.columns.find(
      (column) =>
        dataset.columns.find((candidate) => candidate.name === column.name)?.warehouseType !== column.warehouseType,
    );
    if (other) {
      const there = dataset.columns.find((candidate) => candidate.name === other.name);
      throw new LoadFailure({
        message: `${table} is not of the shape of ${first.table}: ${other.name} is ${there ? shortType(there.warehouseType) : "missing"} there and ${shortType(other.warehouseType)} here`,
        hint: "Tables of one load have the same columns.",
      });
    }
  }
  const text: ColumnType = { resolved: "text", kind: "b", builtIn: true };
  const mark = {
    name: origin,
    declared: "text",
    type: text,
    warehouseType: "text",
    notNull: true,
    generated: false,
    hasDefault: false,
    comment: null,
  };
  const columns = first.dataset.columns.map((column) => ({
    ...column,
    notNull: described.every(({ dataset }) =>
      dataset.columns.some((entry) => entry.name === column.name && entry.notNull),
    ),
  }));
  // A key of every table is one of them all together with the mark.
  const shared = first.dataset.indexes.filter(
    (index) =>
      index.unique &&
      others.every(({ dataset }) =>
        dataset.indexes.some((entry) => entry.unique && entry.columns.join("\0") === index.columns.join("\0")),
      ),
  );
  return {
    columns: [mark, ...columns],
    indexes: shared.map((index) => ({ ...index, columns: [origin, ...index.columns] })),
  };
}

/**
 * The types of expressions over a row `s` of stated columns, as a warehouse holds them, found by PostgreSQL without running them.
 * @throws PlanError with the path of the column whose expression is wrong.
 */
export async function expressionTypes(
  session: Session,
  dataset: Dataset,
  analysis: Analysis,
): Promise<Record<string, string>> {
  const computed = analysis.columns.filter((column) => column.source === null);
  const types: Record<string, string> = {};
  for (const column of computed) {
    const fields = await session
      .columns(
        typedNothing(
          dataset.columns.map((entry) => ({ name: entry.name, type: entry.warehouseType })),
          column.expression,
        ),
      )
      .catch((error) => {
        throw expressionError(error, column.name, ["columns", column.name]);
      });
    const [described] = columnsOf(
      await session.query(
        resultColumns,
        [
          fields.map((field) => field.name),
          fields.map((field) => field.type),
          fields.map((field) => field.modifier),
        ].map(arrayText),
      ),
    );
    types[column.name] = described?.warehouseType ?? "text";
  }
  return types;
}

/** Throws PlanError with the path of the first column whose value can't become its type and be given back by it. */
export async function admitCasts(session: Session, plan: LoadPlan): Promise<void> {
  for (const column of plan.read.columns) {
    if (keeps(column.type, column.given)) continue;
    await session
      .columns(typedNothing([{ name: "v", type: column.given }], conversion("s.v", column.given, column.type).fits))
      .catch((error) => {
        const { code } = error as { code?: string };
        if (code !== "42846" && code !== "42883") throw error;
        throw new PlanError(
          `${column.name}: ${shortType(column.given)} can't become ${shortType(column.type)} without losing something; write an expression that says what is meant`,
          ["columns", column.name],
        );
      });
  }
}

/** Throws PlanError with the path of the first rule that is not a condition over the load's columns. */
export async function admitRules(session: Session, plan: LoadPlan): Promise<void> {
  for (const rule of plan.shape?.rules ?? []) {
    const path = ["rules", rule.name];
    const [field] = await session.columns(typedNothing(plan.read.columns, rule.check)).catch((error) => {
      throw expressionError(error, rule.name, path);
    });
    if (field && field.type !== booleanOid)
      throw new PlanError(`${rule.name}: a rule says true or false; this one gives another value`, path);
  }
}

/** The oid of boolean, the same on every server. */
const booleanOid = 16;

function expressionError(error: unknown, name: string, path: string[]): unknown {
  const { message, hint } = error as ServerError;
  return isOfTheText(error)
    ? Object.assign(new PlanError(`${name}: ${message}${hint ? ` (${hint})` : ""}`, path), { cause: error })
    : error;
}
