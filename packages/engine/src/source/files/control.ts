import { posix } from "node:path";
import { records } from "@undercoat/core/file/csv";
import { addUp } from "@undercoat/core/proof/decimal";
import { LoadFailure } from "../../failure.ts";
import type { ShapedFile } from "./shaped.ts";
import type { FileStore, FoundFile } from "./store.ts";

/**
 * What lies beside files and says what they ought to hold: `a.csv.sha256`, as sha256sum writes it, with the digest of
 * `a.csv`; and `control.csv`, or `<any>.control.csv`, with a line for each file: its name, how many `rows` it has, and
 * under `sum(column)` what that column adds up to, as often as wanted.
 */

/** True for a file that says something of others. */
export const isControl = (name: string): boolean => /\.sha256$|(^|\/|\.)control\.csv$/i.test(name);

/** What is said of one file. */
interface Said {
  /** the file that says it */
  by: string;
  sha256?: string;
  rows?: string;
  sums?: { column: string; sum: string }[];
}

/** More than this says nothing of files. */
const longest = 4 * 1024 * 1024;

async function textOf(file: FoundFile): Promise<string> {
  if (file.bytes > longest) throw new LoadFailure({ message: `${file.name} is too long to say what files hold` });
  const pieces: Buffer[] = [];
  for await (const piece of file.open()) pieces.push(piece as Buffer);
  return Buffer.concat(pieces)
    .toString("utf8")
    .replace(/^\ufeff/, "");
}

const beside = (control: string, name: string) => posix.normalize(posix.join(posix.dirname(control), name.trim()));

function digestsIn(control: FoundFile, text: string): [string, Said][] {
  return text.split(/\r?\n/).flatMap((line): [string, Said][] => {
    if (line.trim() === "") return [];
    const [, sha256 = "", name = ""] = /^\\?([0-9a-f]{64})(?:\s+[ *]?(.+))?$/i.exec(line.trim()) ?? [];
    if (!sha256)
      throw new LoadFailure({ message: `${control.name} is not as sha256sum writes it: ${line.slice(0, 80)}` });
    const of = name ? beside(control.name, name) : control.name.replace(/\.sha256$/i, "");
    return [[of, { by: control.name, sha256: sha256.toLowerCase() }]];
  });
}

function countsIn(control: FoundFile, text: string): [string, Said][] {
  const first = text.slice(0, text.search(/\r?\n/) + 1 || undefined);
  const delimiter = [";", "\t", "|"].find((sign) => first.includes(sign)) ?? ",";
  const [head = [], ...lines] = records(text, delimiter, '"', 100_000);
  const names = head.map((name) => name.trim());
  const place = names.indexOf("file");
  if (place < 0)
    throw new LoadFailure({
      message: `${control.name} has no column file`,
      hint: "Its first line names its columns: file, rows, and sum(column) as often as wanted.",
    });
  return lines.map((line): [string, Said] => {
    const at = (name: string) => line[names.indexOf(name)]?.trim() || undefined;
    const sums = names.flatMap((name, column) => {
      const [, of] = /^sum\((.+)\)$/.exec(name) ?? [];
      const sum = line[column]?.trim();
      return of && sum ? [{ column: of, sum: sum.replace(",", ".") }] : [];
    });
    return [beside(control.name, line[place] ?? ""), { by: control.name, rows: at("rows"), sums }];
  });
}

/** What is said of some files of a store, by their names: by what lies in their folders, or in one that these lie in. */
export async function readControls(store: FileStore, files: readonly FoundFile[]): Promise<Map<string, Said[]>> {
  const said = new Map<string, Said[]>();
  const folders = new Set(files.map(({ name }) => posix.dirname(name)));
  const above = (folder: string) =>
    folder === "." || [...folders].some((one) => one === folder || one.startsWith(`${folder}/`));
  for (const control of await store.find("**/{*.sha256,control.csv,*.control.csv}")) {
    if (!above(posix.dirname(control.name))) continue;
    const text = await textOf(control);
    const found = /\.sha256$/i.test(control.name) ? digestsIn(control, text) : countsIn(control, text);
    for (const [name, one] of found) said.set(name, [...(said.get(name) ?? []), one]);
  }
  return said;
}

/**
 * Compares a file with what is said of it. @returns what was compared, in words
 * @throws LoadFailure where it is not so
 */
export async function compareControl(shaped: ShapedFile, sha256: string, said: readonly Said[]): Promise<string[]> {
  const { file } = shaped;
  const told: string[] = [];
  const differs = (by: string, what: string, is: string, ought: string) =>
    new LoadFailure({
      message: `${file.name} is not what ${by} says: ${what} ${is} where ${ought} ${ought === "1" ? "is" : "are"} said`,
      hint: "Nothing was written. Bring the file again whole, or mend what is said of it.",
    });
  for (const one of said) {
    if (one.sha256 !== undefined) {
      if (one.sha256 !== sha256)
        throw new LoadFailure({
          message: `${file.name} is not what ${one.by} says: its SHA-256 is another`,
          detail: `It is ${sha256}; ${one.sha256} is said.`,
          hint: "Nothing was written. Bring the file again whole.",
        });
      told.push(`${posix.basename(one.by)}: SHA-256`);
    }
    if (one.rows === undefined && !one.sums?.length) continue;
    const sums = one.sums ?? [];
    const counted = await count(
      shaped,
      sums.map(({ column }) => column),
    );
    const agreed: string[] = [];
    if (one.rows !== undefined) {
      if (counted.rows !== one.rows) throw differs(one.by, "it has", counted.rows, one.rows);
      agreed.push(`${one.rows} rows`);
    }
    for (const [at, { column, sum }] of sums.entries()) {
      const is = counted.sums[at] ?? null;
      if (is === null)
        throw new LoadFailure({
          message: `${file.name}: ${column}, of which ${one.by} says the sum, is no column of numbers there`,
        });
      if (addUp([is, `-${sum}`.replace("--", "")]).replace(/^-?0+(\.0+)?$/, "0") !== "0")
        throw differs(one.by, `its ${column} adds up to`, is, sum);
      agreed.push(`sum of ${column}`);
    }
    told.push(`${posix.basename(one.by)}: ${agreed.join(", ")}`);
  }
  return told;
}

/** A file's rows, and the sums of some of its columns as their texts stand; null for one that is not there, or holds what is no number. */
async function count(
  shaped: ShapedFile,
  columns: readonly string[],
): Promise<{ rows: string; sums: (string | null)[] }> {
  if (!shaped.records)
    throw new LoadFailure({
      message: `What is said of ${shaped.file.name} can't be compared: only texts and workbooks are counted`,
      hint: "State its digest instead, as .sha256.",
    });
  const places = columns.map((name) => shaped.names.indexOf(name));
  const sums: (string | null)[] = places.map((place) => (place < 0 ? null : "0"));
  let rows = 0;
  for await (const piece of shaped.records()) {
    rows += piece.length;
    for (const [at, place] of places.entries()) {
      if (sums[at] === null) continue;
      const values = piece.flatMap(({ fields, fault }) => (fault === null ? (fields[place] ?? []) : []));
      const numbers = values.map((value) => value.replace(",", "."));
      sums[at] = numbers.every((value) => /^-?\d+(\.\d+)?$/.test(value)) ? addUp([sums[at] ?? "0", ...numbers]) : null;
    }
  }
  return { rows: String(rows), sums };
}
