import { loadModule, parseSync, SqlError } from "libpg-query";

/** SQL that may not be used here; `position` is the offset of the offending character, from 0. */
export class ExpressionError extends Error {
  constructor(
    message: string,
    readonly position: number | null = null,
  ) {
    super(message);
  }
}

type Node = Record<string, unknown>;

let loaded: Promise<void> | undefined;

/** The parse tree of SQL text, by PostgreSQL's own parser. */
async function parse(sql: string, prefix: number): Promise<Node[]> {
  if (sql.trim() === "") throw new ExpressionError("The query is empty");
  loaded ??= loadModule();
  await loaded;
  try {
    const tree = parseSync(sql) as { stmts?: { stmt: Node }[] };
    return (tree.stmts ?? []).map((entry) => entry.stmt);
  } catch (error) {
    if (!(error instanceof SqlError)) throw error;
    const at = error.sqlDetails?.cursorPosition;
    throw new ExpressionError(error.message, at === undefined ? null : Math.max(0, at - prefix));
  }
}

/** Visits every tagged node of a parse tree (`{ FuncCall: {…} }`), parents first. */
function visit(tree: unknown, see: (tag: string, node: Node) => void): void {
  if (Array.isArray(tree)) {
    for (const entry of tree) visit(entry, see);
  } else if (tree && typeof tree === "object") {
    for (const [tag, node] of Object.entries(tree)) {
      if (node && typeof node === "object" && !Array.isArray(node)) see(tag, node as Node);
      visit(node, see);
    }
  }
}

const conditionNodes = new Set([
  "A_Expr", "A_Const", "ColumnRef", "BoolExpr", "NullTest", "BooleanTest", "TypeCast", "TypeName", "FuncCall", "CaseExpr", "CaseWhen",
  "CoalesceExpr", "MinMaxExpr", "A_ArrayExpr", "RowExpr", "List", "String", "Integer", "Float", "Boolean", "SQLValueFunction",
  "CollateClause", "A_Indirection", "A_Indices",
]);

/** Functions a condition may call: scalar, and none that changes or reaches anything. */
const conditionFunctions = new Set([
  "lower", "upper", "btrim", "ltrim", "rtrim", "trim", "length", "char_length", "left", "right", "substr", "substring", "strpos", "position",
  "starts_with", "replace", "concat", "concat_ws", "initcap", "lpad", "rpad", "split_part", "regexp_like", "regexp_replace", "like_escape", "similar_to_escape",
  "abs", "ceil", "ceiling", "floor", "round", "trunc", "mod", "sign", "power", "sqrt",
  "date_trunc", "date_part", "extract", "age", "make_date", "make_interval", "to_char", "to_date", "to_timestamp", "to_number", "timezone", "isfinite", "now",
  "array_length", "cardinality", "array_position", "jsonb_typeof", "jsonb_extract_path_text", "json_extract_path_text", "jsonb_array_length",
]);

/**
 * Admits an SQL condition by its parse tree: scalar operators and functions of an allow-list over the source's
 * columns; no subquery, no aggregate, no second statement.
 * @throws ExpressionError with the fact and its position.
 */
export async function checkCondition(sql: string): Promise<void> {
  const prefix = "SELECT 1 WHERE (";
  // The line break keeps a trailing comment from swallowing the closing bracket.
  const statements = await parse(`${prefix}${sql}\n)`, prefix.length);
  const select = statements[0]?.SelectStmt as Node | undefined;
  const allowed = new Set(["targetList", "whereClause", "limitOption", "op"]);
  if (statements.length !== 1 || !select || Object.keys(select).some((key) => !allowed.has(key)))
    throw new ExpressionError("A condition is one SQL expression; this is more than one");
  visit(select.whereClause, (tag, node) => {
    if (!/^[A-Z]/.test(tag)) return;
    const position = typeof node.location === "number" ? node.location - prefix.length : null;
    if (tag === "SubLink") throw new ExpressionError("A condition can't hold a subquery", position);
    if (!conditionNodes.has(tag)) throw new ExpressionError(`A condition can't hold ${tag}`, position);
    if (tag === "FuncCall") checkFunction(node, position);
  });
}

function checkFunction(node: Node, position: number | null): void {
  const path = ((node.funcname as { String: { sval: string } }[]) ?? []).map((part) => part.String.sval);
  const name = path.at(-1) ?? "";
  const schema = path.length > 1 ? path[0] : "pg_catalog";
  if (schema !== "pg_catalog" || !conditionFunctions.has(name)) throw new ExpressionError(`The function ${path.join(".")} is not one a condition can call`, position);
  if (node.over || node.agg_order || node.agg_filter || node.agg_star) throw new ExpressionError("A condition can't hold an aggregate", position);
}

/**
 * Admits a query as a source: one SELECT (or VALUES) that reads. A change inside WITH, INTO and row locks are refused; the
 * read-only transaction it runs in refuses the rest.
 * @throws ExpressionError with the fact and its position.
 */
export async function checkQuery(sql: string): Promise<void> {
  const statements = await parse(sql, 0);
  if (statements.length !== 1) throw new ExpressionError(`A query is one SELECT; here are ${statements.length} statements`);
  if (!statements[0]?.SelectStmt) throw new ExpressionError("A query starts with SELECT, WITH or VALUES; this statement does something else");
  visit(statements, (tag, node) => {
    if (["InsertStmt", "UpdateStmt", "DeleteStmt", "MergeStmt"].includes(tag)) throw new ExpressionError("A query only reads; this one changes rows inside WITH");
    if (tag === "intoClause" || tag === "IntoClause") throw new ExpressionError("A query can't write INTO a table");
    if (tag === "LockingClause") throw new ExpressionError("A query can't lock rows (FOR UPDATE, FOR SHARE)", typeof node.location === "number" ? node.location : null);
  });
}

/** A query without a trailing semicolon or comment, so that it can stand in brackets. */
export function asSubquery(sql: string): string {
  return `(${sql.trim().replace(/;\s*$/, "")}\n)`;
}
