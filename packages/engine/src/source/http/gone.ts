import { sinceValue } from "@undercoat/core/http/since";
import type { GoneForm } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { LoadFailure } from "../../failure.ts";
import { type HttpClient, shownAddress } from "../../http/client.ts";
import { jsonRecord } from "../members.ts";
import { pagesOf, type Reading, unheard } from "./pages.ts";

/** Most deleted records that one run hears of. */
const mostListed = 1_000_000;

/**
 * The keys of what an application lists as deleted, in the order of the load's key; since the watermark, where it can be asked
 * for that.
 * @throws LoadFailure where an entry says no key, or there are too many
 */
export async function goneOf(
  { name, client, ask }: Pick<Reading, "name" | "ask"> & { client: HttpClient },
  form: GoneForm,
  { write: { key }, read: { columns, watermark } }: LoadPlan,
  window: Window,
): Promise<string[][]> {
  const members = form.key ?? key.map((one) => columns.find((column) => column.name === one)?.source ?? "");
  if (members.length !== key.length)
    throw new LoadFailure({
      message: `The list of the deleted names ${members.length} members, and the load's key has ${key.length}`,
      hint: "Say the key's members in its order: gone: { path, key: [scan_id] }",
    });
  const since =
    form.since && watermark && window.kind === "since"
      ? { [form.since.parameter]: sinceValue(form.since, { ...watermark, value: window.value }) }
      : {};
  const keys: string[][] = [];
  const reading = { name, from: form, ask, spool: null, all: true, ...unheard };
  for await (const { records, address } of pagesOf(reading, client.addressOf({ ...form, parameters: since })))
    for (const [at, text] of records.entries()) {
      const record = jsonRecord(text, at + 1, false);
      const values = "fault" in record ? [] : members.map((member) => record.values.get(member) ?? null);
      if (values.length === 0 || values.includes(null))
        throw new LoadFailure({
          message: `${name}'s list of the deleted has an entry without ${members.join(", ")}`,
          detail: `${shownAddress(address)}\n${text.slice(0, 300)}`,
          hint: "Say which of its members identify a record: gone: { path, key: [id] }",
        });
      keys.push(values as string[]);
      if (keys.length > mostListed)
        throw new LoadFailure({
          message: `${name} lists more than ${mostListed} deleted records`,
          hint: "Say by which parameter it tells those of late (gone: { since }), or run the whole load.",
        });
    }
  return keys;
}
