import type { ComputedColumn, Load, Pipeline, Rule } from "../pipeline/pipeline.ts";
import { holesIn, type Mention, valuesIn } from "./scan.ts";

/**
 * What a text of a pipeline is to parameters: a name with holes (`trip_{region}`), SQL that names values (`:region`), or a
 * value that may be one parameter's whole (`:since`). What is asked of an application is such a value, and may be an end of the
 * interval that is read.
 */
export type SlotKind = "name" | "sql" | "reading" | "value" | "asked";

/** A text of a pipeline that parameters may stand in. `reading` is SQL that is read for an interval, so that it may name `:from` and `:to`. */
export interface Slot {
  kind: SlotKind;
  path: (string | number)[];
  text: string;
}

type Put = (slot: Slot) => string;

function eachOf<T>(record: Record<string, T>, map: (value: T, name: string) => T): Record<string, T> {
  return Object.fromEntries(Object.entries(record).map(([name, value]) => [name, map(value, name)]));
}

function mapLoad(load: Load, path: string[], put: Put): Load {
  const slot = (kind: SlotKind, text: string, ...rest: string[]) => put({ kind, text, path: [...path, ...rest] });
  const { from, into, columns, rules, report, watermark, proof } = load;
  return {
    ...load,
    from: {
      ...from,
      connection: slot("name", from.connection, "from", "connection"),
      ...(from.table ? { table: slot("name", from.table, "from", "table") } : {}),
      ...(from.path ? { path: slot("name", from.path, "from", "path") } : {}),
      ...(from.parameters
        ? { parameters: eachOf(from.parameters, (value, name) => slot("asked", value, "from", "parameters", name)) }
        : {}),
      ...(from.files ? { files: slot("name", from.files, "from", "files") } : {}),
      ...(from.query ? { query: slot("reading", from.query, "from", "query") } : {}),
      ...(from.tables
        ? { tables: eachOf(from.tables, (table, mark) => slot("name", table, "from", "tables", mark)) }
        : {}),
      ...(from.where ? { where: slot("reading", from.where, "from", "where") } : {}),
    },
    into: {
      ...into,
      table: slot("name", into.table, "into", "table"),
      ...(into.part ? { part: slot("sql", into.part, "into", "part") } : {}),
    },
    ...(columns
      ? {
          columns: eachOf<string | ComputedColumn>(columns, (column, name) =>
            typeof column === "string"
              ? slot("sql", column, "columns", name)
              : { ...column, as: slot("sql", column.as, "columns", name, "as") },
          ),
        }
      : {}),
    ...(rules
      ? {
          rules: eachOf<string | Rule>(rules, (rule, name) =>
            typeof rule === "string"
              ? slot("sql", rule, "rules", name)
              : {
                  ...rule,
                  check: slot("sql", rule.check, "rules", name, "check"),
                  ...(rule.from ? { from: slot("value", rule.from, "rules", name, "from") } : {}),
                },
          ),
        }
      : {}),
    ...(report?.connection
      ? { report: { ...report, connection: slot("name", report.connection, "report", "connection") } }
      : {}),
    ...(watermark?.lookBack
      ? { watermark: { ...watermark, lookBack: slot("value", watermark.lookBack, "watermark", "lookBack") } }
      : {}),
    ...(proof?.within
      ? {
          proof: {
            ...proof,
            within: {
              ...proof.within,
              dimension: slot("name", proof.within.dimension, "proof", "within", "dimension"),
            },
          },
        }
      : {}),
  };
}

/** A pipeline with every text that parameters may stand in put through a function. */
export function mapSlots(pipeline: Pipeline, put: Put): Pipeline {
  return {
    ...pipeline,
    title: put({ kind: "name", text: pipeline.title, path: ["title"] }),
    warehouse: put({ kind: "name", text: pipeline.warehouse, path: ["warehouse"] }),
    loads: eachOf(pipeline.loads, (load, name) => mapLoad(load, ["loads", name], put)),
  };
}

/** Every text of a pipeline that parameters may stand in. */
export function slotsOf(pipeline: Pipeline): Slot[] {
  const slots: Slot[] = [];
  mapSlots(pipeline, (slot) => {
    slots.push(slot);
    return slot.text;
  });
  return slots;
}

/** The parameters that a text mentions. */
export function mentionsIn({ kind, text }: Slot): Mention[] {
  if (kind === "name") return holesIn(text);
  if (kind !== "value" && kind !== "asked") return valuesIn(text);
  const name = /^:([A-Za-z_][A-Za-z0-9_]*)$/.exec(text)?.[1];
  return name ? [{ name, from: 0, to: text.length }] : [];
}

/** Something that names a connection or a table, and can be set for one run without being declared. */
export interface Settable {
  /** `trip.from.table` */
  address: string;
  kind: "connection" | "dataset" | "table";
  text: string;
}

function addressOf(path: readonly (string | number)[]): string {
  return (path[0] === "loads" ? path.slice(1) : path).join(".");
}

/** Everything in a pipeline that names a connection, a dataset or a table. */
export function settableIn(pipeline: Pipeline): Settable[] {
  return slotsOf(pipeline).flatMap(({ kind, path, text }) => {
    if (kind !== "name" || path[0] === "title" || path.includes("within")) return [];
    const last = path.at(-1);
    const names =
      last === "connection" || last === "warehouse" ? "connection" : path.includes("into") ? "table" : "dataset";
    return [{ address: addressOf(path), kind: names, text }];
  });
}

/** A pipeline in which some addresses name something else. */
export function withSettings(pipeline: Pipeline, settings: Readonly<Record<string, string>>): Pipeline {
  return mapSlots(pipeline, ({ kind, path, text }) => {
    const address = addressOf(path);
    return kind === "name" && path[0] !== "title" && Object.hasOwn(settings, address)
      ? (settings[address] ?? text)
      : text;
  });
}
