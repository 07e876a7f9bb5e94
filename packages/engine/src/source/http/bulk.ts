import { createReadStream } from "node:fs";
import { mkdtemp, open, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { columnNames } from "@undercoat/core/file/csv";
import { JsonLines } from "@undercoat/core/file/json";
import { RecordReader, type TextRecord } from "@undercoat/core/file/records";
import { Body } from "@undercoat/core/http/body";
import type { BulkForm } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import type { HttpClient, HttpRequest } from "../../http/client.ts";
import { decoded, unpacked } from "../files/bytes.ts";
import { type JsonRecord, jsonRecord } from "../members.ts";
import { momentOf } from "./pages.ts";

/** How long an application may take to export, in milliseconds, and how often it is asked whether it is done. */
const patience = 6 * 3_600_000;
const first = 500;
const longest = 15_000;

const csvSigns = { delimiter: ",", quote: '"', header: true, skip: 0 };

/** What reading an export needs. */
export interface BulkReading {
  name: string;
  client: HttpClient;
  form: BulkForm;
  /** what goes along with every request */
  asks: Pick<HttpRequest, "signal" | "told" | "left" | "waiting">;
  /** the names of a row's fields, in their order */
  names: readonly string[];
  /** lays a record of JSON out as a row */
  row(record: JsonRecord): TextRecord;
  note(words: string): void;
  /** told when the export was begun, ISO 8601 */
  began(at: string): void;
}

/**
 * Lets an application export what it has in the background, asks until it is done, and reads the parts one after another; each
 * is fetched whole before any of it is read, so that one that is cut off can be fetched again, while the one before it is read.
 * @throws LoadFailure where the export fails, or a part holds columns that no page has
 */
export async function* bulkOf(reading: BulkReading): AsyncGenerator<{ part: number; records: TextRecord[] }> {
  const { client, form } = reading;
  const parts = await exported(reading);
  const desk = await mkdtemp(join(tmpdir(), "undercoat-parts-"));
  const left = new AbortController();
  const signal = AbortSignal.any([left.signal, ...(reading.asks.signal ? [reading.asks.signal] : [])]);
  const fetch = async (at: number): Promise<string> => {
    const path = join(desk, String(at));
    const address = parts[at];
    if (address) await client.save({ address, accept: "*/*", patient: true, ...reading.asks, signal }, path);
    return path;
  };
  let ahead = fetch(0);
  try {
    for (const at of parts.keys()) {
      const path = await ahead;
      ahead = fetch(at + 1);
      // Told once it is waited for.
      ahead.catch(() => undefined);
      reading.note(`part ${at + 1} of ${parts.length} of the export is here`);
      for await (const records of form.format === "ndjson" ? jsonRows(path, reading) : csvRows(path, reading))
        yield { part: at + 1, records };
      await rm(path);
    }
  } finally {
    left.abort();
    await ahead.catch(() => undefined);
    await rm(desk, { recursive: true, force: true });
  }
}

/** Begins an export and waits for it; the addresses of its parts. */
async function exported({ name, client, form, asks, note, began }: BulkReading): Promise<string[]> {
  const begun = await client.ask({
    address: client.address(form.begin),
    method: "POST",
    json: JSON.stringify(form.body ?? {}),
    patient: true,
    ...asks,
  });
  began(momentOf(begun));
  const id = new Body(begun.body.toString("utf8")).value(form.id)?.text;
  if (!id)
    throw new LoadFailure({
      message: `${name} began an export and did not say which: its answer has no ${form.id}`,
      hint: "Check bulk: id.",
    });
  const address = client.address(form.ask.replace("{id}", encodeURIComponent(id)));
  const until = Date.now() + patience;
  let told = "";
  for (let wait = first; ; wait = Math.min(longest, wait * 1.5)) {
    const body = new Body((await client.ask({ address, patient: true, ...asks })).body.toString("utf8"));
    const state = body.value(form.at)?.text ?? "";
    const done = form.count ? body.value(form.count)?.text : undefined;
    if (state === form.done) {
      const found = body.list(form.parts);
      if (!found)
        throw new LoadFailure({
          message: `${name} has exported and names no parts at ${form.parts}`,
          hint: "Check bulk: parts.",
        });
      return found.map((part) => partAddress(name, client, part));
    }
    if (state === form.failed)
      throw new LoadFailure({ message: `${name} could not export: it says ${state}`, detail: body.text.slice(0, 300) });
    if (Date.now() > until)
      throw new LoadFailure({ message: `${name} did not end its export within ${patience / 3_600_000} hours` });
    const words = `the application exports: ${state || "no state"}${done ? `, ${done} records so far` : ""}`;
    if (words !== told) note(words);
    told = words;
    await pause(wait, undefined, { signal: asks.signal });
  }
}

/** A part's own address; it must be the connection's host, or one that an administrator allows is asked without what signs in. */
function partAddress(name: string, client: HttpClient, part: string): string {
  const base = `${client.base.replace(/\/+$/, "")}/`;
  if (!URL.canParse(part, base))
    throw new LoadFailure({ message: `${name} names a part of its export that is no address: ${part.slice(0, 100)}` });
  return new URL(part, base).href;
}

/** A file's bytes, unpacked where they are packed, each as a character. */
async function* signsOf(path: string): AsyncGenerator<string> {
  const file = await open(path);
  const { buffer } = await file.read(Buffer.alloc(2), 0, 2, 0);
  await file.close();
  const bytes = unpacked(createReadStream(path), buffer[0] === 0x1f && buffer[1] === 0x8b);
  try {
    for await (const piece of bytes) yield (piece as Buffer).toString("latin1");
  } finally {
    bytes.destroy();
  }
}

async function* jsonRows(path: string, { row }: BulkReading): AsyncGenerator<TextRecord[]> {
  const cutter = new JsonLines();
  const told = ({ text, number }: { text: string; number: number }) =>
    row(jsonRecord(decoded(text, "utf-8"), number, false));
  for await (const piece of signsOf(path)) yield [...cutter.read(piece, false)].map(told);
  yield [...cutter.read("", true)].map(told);
}

async function* csvRows(path: string, { name, names }: BulkReading): AsyncGenerator<TextRecord[]> {
  let head: { reader: RecordReader; places: number[] } | null = null;
  let before = "";
  const told = (record: TextRecord, places: readonly number[]): TextRecord => {
    const text = decoded(record.text, "utf-8", true);
    if (record.fault !== null) return { ...record, text };
    try {
      const fields = places.map((at) => (at < 0 ? null : (record.fields[at] ?? null)));
      return { ...record, text, fields: fields.map((field) => (field === null ? null : decoded(field, "utf-8"))) };
    } catch {
      return { ...record, fields: [], text, fault: "holds bytes that are no text" };
    }
  };
  for await (const piece of signsOf(path)) {
    let text = piece;
    if (!head) {
      before += piece.replace(/^\u00ef\u00bb\u00bf/, "");
      if (!before.includes("\n")) continue;
      const columns = columnNames(decoded(before.slice(0, before.indexOf("\n") + 1), "utf-8"), csvSigns);
      const odd = columns.find((column) => !names.includes(column));
      if (odd !== undefined)
        throw new LoadFailure({
          message: `${name} exports a column ${odd} that its pages don't have`,
          hint: "Name its type: types: { … }, or leave bulk out.",
        });
      const places = names.map((column) => columns.indexOf(column));
      head = { reader: new RecordReader(csvSigns, columns.length, { lines: 0, head: true }), places };
      text = before;
    }
    const { reader, places } = head;
    yield [...reader.read(text, false)].map((record) => told(record, places));
  }
  if (head) {
    const { reader, places } = head;
    yield [...reader.read("", true)].map((record) => told(record, places));
  }
}
