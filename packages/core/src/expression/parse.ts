import { loadModule, parseSync, SqlError } from "libpg-query";
import { grammarFunctions, scalarFunctions } from "./functions.ts";

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

/** Visits every tagged node of a parse tree (`{ FuncCall: {…} }`), parents first; `see` says whether to look inside. */
function visit(tree: unknown, see: (tag: string, node: Node) => boolean, depth = 0): void {
  if (depth > deepest) throw new ExpressionError("The SQL is nested too deeply; part it into several columns");
  if (Array.isArray(tree)) {
    for (const entry of tree) visit(entry, see, depth + 1);
  } else if (tree && typeof tree === "object") {
    for (const [tag, node] of Object.entries(tree)) {
      const inside = node && typeof node === "object" && !Array.isArray(node) ? see(tag, node as Node) : true;
      if (inside) visit(node, see, depth + 1);
    }
  }
}

/** Levels of a parse tree that are followed; each operator takes a few. */
const deepest = 1500;

const scalarNodes = new Set([
  "A_Expr",
  "A_Const",
  "ColumnRef",
  "BoolExpr",
  "NullTest",
  "BooleanTest",
  "TypeCast",
  "TypeName",
  "FuncCall",
  "CaseExpr",
  "CaseWhen",
  "CoalesceExpr",
  "MinMaxExpr",
  "A_ArrayExpr",
  "RowExpr",
  "List",
  "String",
  "Integer",
  "Float",
  "Boolean",
  "SQLValueFunction",
  "CollateClause",
  "A_Indirection",
  "A_Indices",
]);
/** What a rule may hold besides, to look values up in a table. */
const lookupNodes = new Set(["SubLink", "SelectStmt", "ResTarget", "RangeVar"]);
const lookupClauses = new Set(["targetList", "fromClause", "whereClause", "limitOption", "op"]);

const allowed = new Map(scalarFunctions.map((entry) => [entry.name, entry]));

/** What an expression is for; each use allows a little more or less. */
export type ExpressionUse = "condition" | "column" | "rule" | "part";

const useWords: Record<ExpressionUse, string> = {
  condition: "A condition",
  column: "A column's expression",
  rule: "A rule",
  part: "The condition of a part",
};

/** An admitted expression. */
export interface Expression {
  /** the columns it names outside lookups, each once, in the order of their first mention */
  reads: string[];
  /** those of them that it names only inside a digest, such as sha256 */
  digested: string[];
  /** true where its answer depends on a locale, unless a collation is stated */
  localized: boolean;
  /** its text with every such column put through `rename` */
  renamed(rename: (column: string) => string): string;
}

interface Mention {
  column: string;
  from: number;
  to: number;
  /** inside a digest */
  digested: boolean;
}

/** Functions whose answer does not tell what they were given. */
const digests = /^(md5|sha(224|256|384|512))$/;

const encoder = new TextEncoder();
const decoder = new TextDecoder();

/** Where a mentioned name stands in a text; the parser counts in bytes of UTF-8. */
function mention(sql: string, column: string, byte: number): Omit<Mention, "digested"> {
  const from = decoder.decode(encoder.encode(sql).slice(0, byte)).length;
  const written = /^(?:"(?:[^"]|"")*"|[\p{L}_][\p{L}\p{N}_$]*)/u.exec(sql.slice(from))?.[0] ?? "";
  return { column, from, to: from + written.length };
}

/**
 * Admits an SQL expression by its parse tree: scalar operators and functions of an allow-list over columns; no aggregate,
 * no second statement, and a subquery only in a rule, over one table named with its schema.
 * @throws ExpressionError with the fact and its position.
 */
export async function admit(sql: string, use: ExpressionUse): Promise<Expression> {
  const prefix = use === "column" ? "SELECT (" : "SELECT 1 WHERE (";
  // The line break keeps a trailing comment from swallowing the closing bracket.
  const statements = await parse(`${prefix}${sql}\n)`, prefix.length);
  const select = statements[0]?.SelectStmt as Node | undefined;
  const clauses = new Set(["targetList", "whereClause", "limitOption", "op"]);
  const targets =
    (select?.targetList as { ResTarget: { val: unknown; name?: string; indirection?: unknown } }[] | undefined) ?? [];
  const target = targets[0]?.ResTarget;
  if (
    statements.length !== 1 ||
    !select ||
    Object.keys(select).some((key) => !clauses.has(key)) ||
    targets.length !== 1 ||
    target?.name !== undefined ||
    (use === "column" && select.whereClause)
  )
    throw new ExpressionError(`${useWords[use]} is one SQL expression; this is more than one`);
  const lasting = use === "column" || use === "part";
  if (use === "column" && (target?.val as { RowExpr?: unknown } | undefined)?.RowExpr)
    throw new ExpressionError("A column's expression is one value; this is several");
  const mentions: Mention[] = [];
  let localized = false;
  let digesting = false;
  const see = (within: "expression" | "lookup") => (tag: string, node: Node) => {
    if (!/^[A-Z]/.test(tag)) return true;
    const byte = typeof node.location === "number" ? node.location - prefix.length : null;
    const position = byte === null ? null : decoder.decode(encoder.encode(sql).slice(0, byte)).length;
    if (tag === "SubLink" && use !== "rule")
      throw new ExpressionError(`${useWords[use]} can't hold a subquery`, position);
    if (!scalarNodes.has(tag) && !(use === "rule" && lookupNodes.has(tag)))
      throw new ExpressionError(`${useWords[use]} can't hold ${tag}`, position);
    if (tag === "SQLValueFunction" && lasting) throw moving(use, position);
    if (tag === "FuncCall") checkFunction(node, position, use);
    if (tag === "TypeCast" && lasting && isMovingWord(node)) throw moving(use, position);
    if (dependsOnLocale(tag, node)) localized = true;
    if (tag === "SelectStmt" && Object.keys(node).some((key) => !lookupClauses.has(key)))
      throw new ExpressionError("A lookup is SELECT … FROM one table WHERE …", position);
    if (tag === "RangeVar" && typeof node.schemaname !== "string")
      throw new ExpressionError(`A lookup names its table with its schema: schema.${node.relname}`, position);
    if (tag === "ColumnRef" && within === "expression" && byte !== null)
      mentions.push({ ...columnMention(sql, node, byte, position), digested: digesting });
    if (tag === "FuncCall" && !digesting && digests.test(functionPath(node).at(-1) ?? "")) {
      digesting = true;
      visit(node.args, see(within));
      digesting = false;
      return false;
    }
    if (tag !== "SubLink" || within === "lookup") return true;
    // Inside a lookup a bare name may be the table's own; PostgreSQL's scoping decides there.
    visit(node.testexpr, see("expression"));
    visit(node.subselect, see("lookup"));
    return false;
  };
  visit(use === "column" ? target?.val : select.whereClause, see("expression"));
  const reads = [...new Set(mentions.map((entry) => entry.column))];
  return {
    localized,
    reads,
    digested: reads.filter((column) => mentions.every((entry) => entry.column !== column || entry.digested)),
    renamed(rename) {
      const ordered = mentions.toSorted((a, b) => b.from - a.from);
      return ordered.reduce(
        (text, entry) => text.slice(0, entry.from) + rename(entry.column) + text.slice(entry.to),
        sql,
      );
    },
  };
}

const moving = (use: ExpressionUse, position: number | null) =>
  new ExpressionError(`${useWords[use]} can't depend on the moment of the run: it could never be proved`, position);

/** True for `'today'::date` and the like: a constant that means another moment at every run. */
function isMovingWord(node: Node): boolean {
  const text = (node.arg as { A_Const?: { sval?: { sval?: string } } } | undefined)?.A_Const?.sval?.sval;
  return text !== undefined && /^\s*(now|today|tomorrow|yesterday)\b/i.test(text);
}

/** Functions and operators that tell letters by a locale. */
function dependsOnLocale(tag: string, node: Node): boolean {
  const names = ((tag === "FuncCall" ? node.funcname : tag === "A_Expr" ? node.name : []) ?? []) as {
    String?: { sval: string };
  }[];
  const name = names.at(-1)?.String?.sval ?? "";
  return /^(lower|upper|initcap|regexp_\w+|~\*?|!~\*?|~~\*|!~~\*)$/.test(name);
}

function columnMention(sql: string, node: Node, byte: number, position: number | null) {
  const fields = node.fields as { String?: { sval: string } }[];
  const name = fields[0]?.String?.sval;
  if (fields.length !== 1 || name === undefined)
    throw new ExpressionError("A column is named by its name alone", position);
  return mention(sql, name, byte);
}

/** A called function's name, with its schema before it where one is written. */
const functionPath = (node: Node) =>
  ((node.funcname as { String: { sval: string } }[]) ?? []).map((part) => part.String.sval);

function checkFunction(node: Node, position: number | null, use: ExpressionUse): void {
  const path = functionPath(node);
  const name = path.at(-1) ?? "";
  const schema = path.length > 1 ? path[0] : "pg_catalog";
  const known = allowed.get(name);
  if (schema !== "pg_catalog" || (!known && !grammarFunctions.includes(name)))
    throw new ExpressionError(`The function ${path.join(".")} is not one an expression can call`, position);
  const moves = known?.ofTheMoment || (name === "age" && ((node.args as unknown[] | undefined) ?? []).length < 2);
  if (moves && (use === "column" || use === "part")) throw moving(use, position);
  if (node.over || node.agg_order || node.agg_filter || node.agg_star || node.agg_distinct)
    throw new ExpressionError(`${useWords[use]} can't hold an aggregate`, position);
}

/** The tables that a query reads, for finding what must be loaded before it. */
export async function tablesOf(sql: string): Promise<{ schema: string | null; table: string }[]> {
  const tables: { schema: string | null; table: string }[] = [];
  const named = new Set<string>();
  visit(await parse(sql, 0), (tag, node) => {
    if (tag === "CommonTableExpr") named.add(String(node.ctename));
    if (tag === "RangeVar")
      tables.push({
        schema: typeof node.schemaname === "string" ? node.schemaname : null,
        table: String(node.relname),
      });
    return true;
  });
  return tables.filter((entry) => entry.schema !== null || !named.has(entry.table));
}

/**
 * Admits a query as a source: one SELECT (or VALUES) that reads. A change inside WITH, INTO and row locks are refused; the
 * read-only transaction it runs in refuses the rest.
 * @throws ExpressionError with the fact and its position.
 */
export async function checkQuery(sql: string): Promise<void> {
  const statements = await parse(sql, 0);
  if (statements.length !== 1)
    throw new ExpressionError(`A query is one SELECT; here are ${statements.length} statements`);
  if (!statements[0]?.SelectStmt)
    throw new ExpressionError("A query starts with SELECT, WITH or VALUES; this statement does something else");
  visit(statements, (tag, node) => {
    if (["InsertStmt", "UpdateStmt", "DeleteStmt", "MergeStmt"].includes(tag))
      throw new ExpressionError("A query only reads; this one changes rows inside WITH");
    if (tag === "intoClause" || tag === "IntoClause") throw new ExpressionError("A query can't write INTO a table");
    if (tag === "LockingClause")
      throw new ExpressionError(
        "A query can't lock rows (FOR UPDATE, FOR SHARE)",
        typeof node.location === "number" ? node.location : null,
      );
    return true;
  });
}

/** The tables that a rule looks values up in. */
export async function lookupsOf(rule: string): Promise<{ schema: string | null; table: string }[]> {
  return tablesOf(`SELECT 1 WHERE (${rule}\n)`);
}

/** What a query calls: functions by name, with the schema where one is written, and operators. */
export interface Calls {
  functions: { schema: string | null; name: string }[];
  operators: string[];
}

export async function callsOf(sql: string): Promise<Calls> {
  const functions = new Map<string, { schema: string | null; name: string }>();
  const operators = new Set<string>();
  const names = (list: unknown) =>
    ((list ?? []) as { String?: { sval: string } }[]).map((part) => part.String?.sval ?? "");
  visit(await parse(sql, 0), (tag, node) => {
    const path = tag === "FuncCall" ? names(node.funcname) : [];
    const name = path.at(-1);
    if (name) functions.set(path.join("."), { schema: path.length > 1 ? (path.at(-2) ?? null) : null, name });
    const operator =
      tag === "A_Expr" ? names(node.name).at(-1) : tag === "SubLink" ? names(node.operName).at(-1) : undefined;
    if (operator) operators.add(operator);
    return true;
  });
  return { functions: [...functions.values()], operators: [...operators] };
}

/** A query without a trailing semicolon or comment, so that it can stand in brackets. */
export function asSubquery(sql: string): string {
  return `(${sql.trim().replace(/;\s*$/, "")}\n)`;
}
