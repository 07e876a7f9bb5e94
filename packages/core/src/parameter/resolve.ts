import type { Pipeline } from "../pipeline/pipeline.ts";
import { check, type Problem, pipelineSchema } from "../pipeline/schema.ts";
import { plainName } from "../sql/identifier.ts";
import { filled, placeBefore } from "./scan.ts";
import { mapSlots, mentionsIn, type Slot, settableIn, slotsOf, withSettings } from "./template.ts";
import {
  type GivenValue,
  isNaming,
  type Parameter,
  type Reading,
  readValue,
  type Value,
  ValueError,
  valueSql,
  valueText,
} from "./value.ts";

/** Where a value came from. */
export type ValueOrigin = "default" | "set" | "file" | "by hand" | "schedule";

/** A value as a run keeps it. */
export interface ResolvedValue {
  text: string;
  how: ValueOrigin;
}

/** What somebody gives a pipeline to run with. */
export interface Given {
  /** a named set of the pipeline's; null for the defaults */
  set?: string | null;
  /** those of a file's row, which come before a set's */
  file?: Record<string, GivenValue>;
  /** single ones, which come before all others */
  values?: Record<string, GivenValue>;
  /** where the single ones come from */
  how?: "by hand" | "schedule";
  /** what some addresses name this time: `trip.from.table` */
  settings?: Record<string, string>;
}

/** A pipeline with its values in place. */
export interface Resolved {
  definition: Pipeline;
  values: Record<string, ResolvedValue>;
}

/** A pipeline that can't be run with what was given; everything that is wrong, where it stands in the pipeline. */
export class ResolveError extends Error {
  constructor(readonly problems: Problem[]) {
    super(problems.map((problem) => problem.message).join(". "));
  }
}

/** The names that always stand for the interval that is loaded. */
export const spanNames: readonly string[] = ["from", "to"];

const parametersOf = ({ parameters = {} }: Pipeline): Record<string, Parameter> => parameters;
const setOf = ({ values = {} }: Pipeline, name: string) => (Object.hasOwn(values, name) ? values[name] : undefined);

function readingOf(pipeline: Pipeline, now: number): Reading {
  return { now, zone: pipeline.zone ?? "UTC" };
}

/** The value of each parameter, and where it came from; those without one are left out. */
function valuesOf(
  pipeline: Pipeline,
  { set = null, file = {}, values = {}, how = "by hand" }: Given,
  now: number,
): { values: Map<string, Value & { how: ValueOrigin }>; problems: Problem[] } {
  const problems: Problem[] = [];
  const read = new Map<string, Value & { how: ValueOrigin }>();
  const parameters = parametersOf(pipeline);
  const named = set === null ? {} : setOf(pipeline, set);
  if (named === undefined)
    problems.push({ path: ["values", set ?? ""], message: `The pipeline has no values named ${set}` });
  for (const name of new Set([...Object.keys(values), ...Object.keys(file)]))
    if (!Object.hasOwn(parameters, name))
      problems.push({ path: ["parameters", name], message: `The pipeline has no parameter ${name}` });
  for (const [name, parameter] of Object.entries(parameters)) {
    const given: [ValueOrigin, Record<string, GivenValue>, string[]][] = [
      [how, values, ["parameters", name]],
      ["file", file, ["parameters", name]],
      ["set", named ?? {}, ["values", set ?? "", name]],
      [
        "default",
        parameter.default === undefined ? {} : { [name]: parameter.default },
        ["parameters", name, "default"],
      ],
    ];
    const [origin, holder, path] = given.find(([, record]) => Object.hasOwn(record, name)) ?? [];
    if (!origin || !holder || !path) continue;
    try {
      read.set(name, { ...readValue(parameter, holder[name] ?? null, readingOf(pipeline, now)), how: origin });
    } catch (error) {
      if (!(error instanceof ValueError)) throw error;
      problems.push({ path, message: `${name}: ${error.message}` });
    }
  }
  return { values: read, problems };
}

/** What stands in the place of a mention; undefined where nothing does. */
function fillerOf(values: ReadonlyMap<string, Value>, { kind }: Slot): (name: string) => string | undefined {
  return (name) => {
    const value = values.get(name);
    if (!value) return undefined;
    return kind === "sql" || kind === "reading" ? valueSql(value) : valueText(value);
  };
}

/**
 * Puts values in the places of a pipeline's parameters. A value in SQL is a literal of its type; `:from` and `:to` stay, for
 * what is loaded is known only as it is read.
 * @param now milliseconds since the epoch, from which relative moments are reckoned
 * @throws ResolveError with everything that is wrong
 */
export function resolve(pipeline: Pipeline, given: Given, now: number): Resolved {
  const resolved = put(pipeline, given, now);
  // Schedules name sets of values, which a resolved pipeline has none of; they have been checked with them.
  const { schedule: _, schedules: __, ...definition } = resolved.definition;
  const wrong = check<Pipeline>(pipelineSchema, definition).problems;
  if (wrong.length) throw new ResolveError(wrong);
  return resolved;
}

/** What `resolve` gives, unchecked: whether a name that has come about is one is not looked at. */
function put(pipeline: Pipeline, given: Given, now: number): Resolved {
  const { settings = {} } = given;
  const settable = new Set(settableIn(pipeline).map(({ address }) => address));
  const unknown = Object.keys(settings).filter((address) => !settable.has(address));
  const { values, problems } = valuesOf(pipeline, given, now);
  for (const address of unknown)
    problems.push({
      path: ["settings", address],
      message: `${address} is nothing that can be set; there are ${[...settable].join(", ")}`,
    });
  const template = withSettings(pipeline, settings);
  for (const slot of slotsOf(template))
    for (const { name } of mentionsIn(slot))
      if (
        Object.hasOwn(parametersOf(pipeline), name) &&
        !values.has(name) &&
        !problems.some(({ path }) => path.includes(name))
      )
        problems.push({
          path: ["parameters", name],
          message: `${name} has no value: it has no default, and none was given`,
        });
  if (problems.length) throw new ResolveError(problems);
  const done = mapSlots(template, (slot) => filled(slot.text, mentionsIn(slot), fillerOf(values, slot)));
  const { parameters: _, values: __, ...definition } = done;
  return {
    definition,
    values: {
      ...Object.fromEntries([...values].map(([name, value]) => [name, { text: valueText(value), how: value.how }])),
      ...Object.fromEntries(
        Object.entries(settings).map(([address, text]) => [address, { text, how: given.how ?? ("by hand" as const) }]),
      ),
    },
  };
}

/** A problem of a resolved pipeline, told where it stands in the pipeline itself. */
export function placedBefore(pipeline: Pipeline, given: Given, now: number, problem: Problem): Problem {
  if (problem.position === undefined) return problem;
  const { values } = valuesOf(pipeline, given, now);
  const path = problem.path.join(" ");
  const slot = slotsOf(pipeline).find((one) => one.path.join(" ") === path || one.path.join(" ") === `${path} as`);
  if (!slot) return problem;
  return { ...problem, position: placeBefore(mentionsIn(slot), fillerOf(values, slot), problem.position) };
}

/** All that a pipeline can be run with by name: its defaults, where they are complete, and each set. */
export function givensOf(pipeline: Pipeline): Given[] {
  const sets = Object.keys(pipeline.values ?? {});
  if (sets.length === 0) return [{ set: null }];
  const complete = Object.values(parametersOf(pipeline)).every((parameter) => parameter.default !== undefined);
  return [...(complete ? [{ set: null }] : []), ...sets.map((set) => ({ set }))];
}

/** A pipeline with its defaults, where they are complete, and with each of its sets in place; sets that can't be are left out. */
export function resolvedAll(pipeline: Pipeline, now: number): { set: string | null; definition: Pipeline }[] {
  return givensOf(pipeline).flatMap((given) => {
    try {
      return [{ set: given.set ?? null, definition: put(pipeline, given, now).definition }];
    } catch (error) {
      if (error instanceof ResolveError) return [];
      throw error;
    }
  });
}

/** The connections that a pipeline reads from and writes into, with any of its sets of values. */
export function connectionsOf(pipeline: Pipeline, now: number): { sources: Set<string>; warehouses: Set<string> } {
  const all = resolvedAll(pipeline, now).map(({ definition }) => definition);
  return {
    sources: new Set(
      all.flatMap(({ loads }) =>
        Object.values(loads).flatMap(({ from, report }) => [
          from.connection,
          ...(report?.connection ? [report.connection] : []),
        ]),
      ),
    ),
    warehouses: new Set(all.map(({ warehouse }) => warehouse)),
  };
}

/** A table that a load writes with some values, and the part of it that is its own; null for all of it. */
export interface Place {
  load: string;
  warehouse: string;
  table: string;
  part: string | null;
  set: string | null;
}

/** Every table that a pipeline's loads write, with each of its sets of values. Sets that can't be resolved write none. */
export function placesOf(pipeline: Pipeline, now: number): Place[] {
  return resolvedAll(pipeline, now).flatMap(({ set, definition }) =>
    Object.entries(definition.loads).map(([load, { into }]) => ({
      load,
      warehouse: definition.warehouse,
      table: tableOf(into.table),
      part: into.part ?? null,
      set,
    })),
  );
}

/** A table's name in one spelling; one that is none stays as it is written. */
function tableOf(text: string): string {
  try {
    return plainName(text);
  } catch {
    return text;
  }
}

/**
 * Under which name the ledger keeps what a run's load wrote: that of its set of values, of a set that writes the same place,
 * '' for a pipeline's defaults, or the place itself.
 */
export function lineOf(places: readonly Place[], load: string, definition: Pipeline, set: string | null): string {
  if (set !== null) return set;
  const into = definition.loads[load]?.into;
  if (!into) return "";
  const [table, part] = [tableOf(into.table), into.part ?? null];
  const mine = places.filter((place) => place.load === load);
  const same = mine.filter(
    (place) => place.warehouse === definition.warehouse && place.table === table && place.part === part,
  );
  const known = same.find((place) => place.set !== null) ?? same[0];
  if (known) return known.set ?? "";
  return mine.length === 0 ? "" : part === null ? table : `${table} where ${part}`;
}

/**
 * What is wrong with how a pipeline declares and mentions parameters: names, types, defaults, sets, and mentions of what is
 * not declared or does not fit where it stands. Told with the place within the text.
 */
export function parameterProblems(pipeline: Pipeline, now: number): Problem[] {
  const parameters = parametersOf(pipeline);
  const problems: Problem[] = [];
  for (const name of Object.keys(parameters))
    if (spanNames.includes(name))
      problems.push({
        path: ["parameters", name],
        message: `${name} always stands for an end of what is being loaded; choose another name`,
      });
  for (const [set, values] of Object.entries(pipeline.values ?? {})) {
    for (const name of Object.keys(values))
      if (!Object.hasOwn(parameters, name))
        problems.push({ path: ["values", set, name], message: `The pipeline has no parameter ${name}` });
    problems.push(...valuesOf(pipeline, { set }, now).problems.filter(({ path }) => path[0] === "values"));
  }
  problems.push(...valuesOf(pipeline, {}, now).problems);
  const declares = Object.keys(parameters).length > 0;
  for (const slot of slotsOf(pipeline))
    for (const { name, from } of mentionsIn(slot)) {
      const told = mentionProblem(parameters, slot, name, declares);
      if (told) problems.push({ path: slot.path, message: told, position: from });
    }
  return problems;
}

function mentionProblem(
  parameters: Record<string, Parameter>,
  { kind, path }: Slot,
  name: string,
  declares: boolean,
): string | null {
  const parameter = Object.hasOwn(parameters, name) ? parameters[name] : undefined;
  const naming = parameter !== undefined && isNaming(parameter.type);
  if (kind === "name") {
    if (parameter?.type.endsWith("[]")) return `${name} is a list; a name takes one value`;
    return parameter || !declares ? null : `There is no parameter ${name}`;
  }
  if (spanNames.includes(name))
    return kind === "reading" || kind === "asked"
      ? null
      : `:${name} is known while the source is read, in a condition or a query; here it would change with every run`;
  if (naming) return `${name} names a ${parameter.type}; write {${name}} where such a name stands`;
  if (parameter) return null;
  // A source's column may be named so; without parameters nothing else is meant.
  return !declares && path.includes("columns") ? null : `There is no parameter ${name}`;
}

/** Parameters that nothing mentions. */
export function unusedIn(pipeline: Pipeline): string[] {
  const used = new Set(slotsOf(pipeline).flatMap((slot) => mentionsIn(slot).map(({ name }) => name)));
  return Object.keys(parametersOf(pipeline)).filter((name) => !used.has(name));
}
