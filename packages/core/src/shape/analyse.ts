import type { Dataset } from "../dataset/dataset.ts";
import { admit, ExpressionError } from "../expression/parse.ts";
import { computedColumn, type Load, type Rule, ruleOf } from "../pipeline/pipeline.ts";
import { PlanError } from "../plan/error.ts";
import { identifier } from "../sql/identifier.ts";
import { canonicalType, typeFamily } from "../sql/type.ts";

/** A warehouse column's expression, admitted. */
export interface AnalysedColumn {
  name: string;
  /** the source column it takes as it stands, or null where it is computed */
  source: string | null;
  /** as its author wrote it */
  text: string;
  /** SQL over the source's row `s`: `s."fare_cents" / 100.0` */
  expression: string;
  reads: string[];
  /** the stated type, as format_type prints it */
  stated: string | null;
  /** true where the source no longer gives it and null stands in its place */
  missing: boolean;
}

/** A rule, admitted, with its defaults filled in. */
export interface AnalysedRule extends Required<Omit<Rule, "from" | "of">> {
  name: string;
  from: string | null;
  of: string | null;
}

/** A load's shape with every expression admitted by its parse tree. */
export interface Analysis {
  columns: AnalysedColumn[];
  rules: AnalysedRule[];
  part: AnalysedPart | null;
}

/** The rows of a target that are a load's own, where others share it. */
export interface AnalysedPart {
  /** as its author wrote it */
  text: string;
  /** a condition over the target's row `t` */
  sql: string;
  /** the warehouse columns that it names */
  reads: string[];
}

/** What a row that is read and is not of its load's part is told to break. */
const ownPart = "it belongs to this load's part";

/** An expression's error with its place in the load's definition. */
function located(error: unknown, path: string[], what: string): unknown {
  if (!(error instanceof ExpressionError)) return error;
  return new PlanError(
    `${what}: ${error.message}${error.position === null ? "" : ` (at character ${error.position + 1})`}`,
    path,
    error.position,
  );
}

/**
 * Admits a load's expressions and rules. A text that is exactly a source column's name stands for that column;
 * any other is an expression.
 * @throws PlanError with the path within the load.
 */
export async function analyse(load: Load, dataset: Dataset): Promise<Analysis> {
  const known = new Map(dataset.columns.map((column) => [column.name, column]));
  /** A column as it stands; of texts that are to be numbers, those told with a comma in the form with a point. */
  const standing = (name: string, type: string | null | undefined) => {
    const column = known.get(name);
    if (column?.missing) return `NULL::${column.warehouseType}`;
    // Either sign takes the other's place, so that a point is no decimal sign where a comma is.
    return column?.decimal && ["numeric", "float"].includes(typeFamily(type ?? ""))
      ? `translate(s.${identifier(name)}, ',.', '.,')`
      : `s.${identifier(name)}`;
  };
  /** A column in an expression: what comes as text counts as the type that it fits. */
  const value = (name: string) => {
    const fits = known.get(name)?.fits;
    return fits === undefined || known.get(name)?.missing ? standing(name, null) : `(${standing(name, fits)})::${fits}`;
  };
  // Servers differ in their locales; one collation that all of them have gives one answer on both sides.
  const collated = (name: string) =>
    typeFamily(known.get(name)?.fits ?? known.get(name)?.warehouseType ?? "") === "text"
      ? `(${value(name)} COLLATE "und-x-icu")`
      : value(name);
  const there = (names: string[]) => names.filter((name) => !known.get(name)?.missing);
  const given = load.columns
    ? Object.entries(load.columns)
    : dataset.columns.map((column) => [column.name, column.name] as const);
  const columns: AnalysedColumn[] = [];
  for (const [name, entry] of given) {
    const { as: text, type } = computedColumn(entry);
    const stated = type === undefined ? null : canonicalType(type);
    const plain = known.get(text);
    if (plain) {
      columns.push({
        name,
        source: plain.missing ? null : text,
        text,
        expression: standing(text, stated ?? plain.fits),
        reads: there([text]),
        stated: stated ?? plain.fits ?? null,
        missing: plain.missing ?? false,
      });
      continue;
    }
    const path = ["columns", name];
    const { reads, renamed, localized } = await admit(text, "column").catch((error) => {
      throw located(error, path, name);
    });
    const unknown = reads.find((read) => !known.has(read));
    if (unknown !== undefined)
      throw new PlanError(`The source has no column ${unknown}`, path, Math.max(0, text.indexOf(unknown)));
    columns.push({
      name,
      source: null,
      text,
      expression: `(${renamed(localized ? collated : value)}\n)`,
      reads: there(reads),
      stated,
      missing: false,
    });
  }
  const names = new Set(columns.map((column) => column.name));
  const part = await analysePart(load, names);
  const rules = await analyseRules(load, names);
  // A row outside the part would be written where no proof of this load looks.
  const own: AnalysedRule[] = part
    ? [
        {
          name: ownPart,
          check: part.text,
          null: "reject",
          breach: load.rejects?.breach ?? "reject",
          from: null,
          of: null,
        },
      ]
    : [];
  return { columns, rules: [...own, ...rules], part };
}

async function analysePart({ into }: Load, columns: ReadonlySet<string>): Promise<AnalysedPart | null> {
  if (!into.part) return null;
  const path = ["into", "part"];
  const { reads, renamed } = await admit(into.part, "part").catch((error) => {
    throw located(error, path, "part");
  });
  const unknown = reads.find((read) => !columns.has(read));
  if (unknown !== undefined)
    throw new PlanError(
      `The part names ${unknown}, which is not a column of the load`,
      path,
      Math.max(0, into.part.indexOf(unknown)),
    );
  if (reads.length === 0)
    throw new PlanError("The part names no column of the load, so it can't tell whose a row is", path);
  return { text: into.part, sql: `(${renamed((name) => `t.${identifier(name)}`)}\n)`, reads };
}

async function analyseRules(load: Load, columns: Set<string>): Promise<AnalysedRule[]> {
  const rules: AnalysedRule[] = [];
  for (const [name, entry] of Object.entries(load.rules ?? {})) {
    const rule = ruleOf(entry);
    const path = ["rules", name];
    const { reads } = await admit(rule.check, "rule").catch((error) => {
      throw located(error, path, name);
    });
    const unknown = [...reads, ...(rule.of ? [rule.of] : [])].find((read) => !columns.has(read));
    if (unknown !== undefined)
      throw new PlanError(
        `The rule ${name} names ${unknown}, which is not a column of the load`,
        path,
        Math.max(0, rule.check.indexOf(unknown)),
      );
    rules.push({
      name,
      check: rule.check,
      null: rule.null ?? "reject",
      breach: rule.breach ?? load.rejects?.breach ?? "reject",
      from: rule.from ?? null,
      of: rule.of ?? null,
    });
  }
  return rules;
}
