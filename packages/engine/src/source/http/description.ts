import type { Dataset, DatasetColumn } from "@undercoat/core/dataset/dataset";
import { guessFields } from "@undercoat/core/http/guess";
import type { ApiResource } from "@undercoat/core/http/openapi";
import { periodsOf } from "@undercoat/core/http/periods";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { canonicalType } from "@undercoat/core/sql/type";
import { LoadFailure } from "../../failure.ts";
import { type JsonRecord, memberColumns } from "../members.ts";
import { textColumn } from "../records.ts";

/** What is known of an application's records before they are read. */
export interface Description {
  dataset: Dataset;
  /** the members that rows are made of, in their order, each with the type that it fits */
  members: ReadonlyMap<string, string>;
  /** the members that identify a record by the application's own word; none where it has none */
  keys: readonly string[];
}

/**
 * Tells what records are made of, by some of them and by what the application's description says.
 * @param given what a load reads, as its author says it; `from`: as paths, pages and parameters
 * @throws LoadFailure where nothing tells what a record is made of, or a name stands for two things
 */
export function describeRecords(
  name: string,
  given: From,
  from: From,
  described: ApiResource | null,
  records: readonly JsonRecord[],
): Description {
  refuseDoubled(from, records);
  const { types = {}, flatten = false } = given;
  const fields = described?.fields.filter(({ name: field }) => !isLeftOut(field, described, given)) ?? [];
  // Of what is taken apart the description says nothing.
  const said = {
    ...(flatten ? {} : Object.fromEntries(fields.map((field) => [field.name, field.type]))),
    ...Object.fromEntries(Object.entries(types).map(([column, type]) => [column, canonicalType(type)])),
  };
  const comments = new Map(fields.map((field) => [field.name, field.comment]));
  const columns = memberColumns(records, said, flatten).map(
    (column): DatasetColumn => ({ ...column, comment: comments.get(column.name) ?? null }),
  );
  if (columns.length === 0)
    throw new LoadFailure({
      message: `${name} gives no record at ${from.path} now, and no description says what one is made of`,
      hint: "Look again once it has one, or say the columns' types: types: { id: bigint }",
    });
  const members = new Map(columns.map((column) => [column.name, column.fits ?? column.warehouseType]));
  const { origin } = from;
  const period = periodsOf(from);
  for (const own of [origin, period?.column])
    if (own !== undefined && members.has(own))
      throw new LoadFailure({
        message: `The records have a member ${own} of their own`,
        hint: `Name another column: ${own === origin ? "origin: account" : "period: { column: of_day }"}`,
      });
  const guessed = guessFields(records.filter((record) => !("fault" in record)).map((record) => record.text));
  const key = described?.keys ?? [described?.key ?? guessed.key].filter((one) => one !== null);
  const dataset: Dataset = {
    columns: [
      ...(origin === undefined ? [] : [textColumn(origin)]),
      ...(period ? [textColumn(period.column, "date")] : []),
      ...columns,
    ],
    indexes: [],
    lines: true,
    proposal: {
      key,
      changes: described?.changes ?? guessed.changes,
      ...(described?.tracked ? { tracked: true as const } : {}),
    },
  };
  return { dataset, members, keys: described ? key : [] };
}

/** @throws LoadFailure where what is kept of the record around a list is a member of what stands in it too */
function refuseDoubled({ keep, each }: From, records: readonly JsonRecord[]): void {
  const doubled = keep?.find((member) =>
    records.some((one) => "fault" in one && one.fault === `names ${member} twice`),
  );
  if (doubled !== undefined)
    throw new LoadFailure({
      message: `What stands at ${each} has a member ${doubled} of its own`,
      hint: `Leave ${doubled} out of what is kept of the record around it.`,
    });
}

/** True for a field that what was ticked among a report's columns leaves out. */
const isLeftOut = (field: string, { choices = [] }: ApiResource, { parameters = {} }: From) =>
  choices.some(({ parameter, values }) => {
    const ticked = parameters[parameter]?.split(",");
    return ticked !== undefined && values.includes(field) && !ticked.includes(field);
  });

/** A record without what a service says about it rather than in it: members such as `@odata.etag` (OData JSON Format, section 4.6). */
export function bare(record: JsonRecord): JsonRecord {
  if ("fault" in record) return record;
  for (const name of record.values.keys()) if (name.includes("@odata.")) record.values.delete(name);
  return record;
}
