import { Readable } from "node:stream";
import type { Scan, ScanProgress } from "@undercoat/core/dataset/dataset";
import { formatOf } from "@undercoat/core/file/format";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { Cancelled, NoTable } from "../../failure.ts";
import { isControl } from "./control.ts";
import { Duck } from "./duck.ts";
import { shapesOf } from "./shape.ts";
import { Fitting } from "./shaped.ts";
import type { FileStore, FoundFile } from "./store.ts";

/** How often a scan says how far it is, in milliseconds. */
const progressEvery = 200;

/**
 * Reads every row of the files that a load names, for the narrowest types that all their values fit. What of a file has
 * types of its own, such as Parquet, keeps them. Of JSON, read twice, all members are found.
 * @throws NoTable where there are no files; Cancelled when the signal ends it
 */
export async function scanned(
  store: FileStore,
  from: From,
  tell: (progress: ScanProgress) => void,
  signal: AbortSignal,
): Promise<Scan> {
  const found = (await store.find(from.files ?? "")).filter(({ name }) => !isControl(name));
  if (found.length === 0) throw new NoTable({ message: `There is no file ${from.files}` });
  const fitting = new Fitting();
  let bytes = 0;
  const of = found.reduce((sum, file) => sum + file.bytes * passes(file), 0);
  let told = 0;
  const report = () => {
    if (signal.aborted) throw new Cancelled("Cancelled");
    if (Date.now() - told < progressEvery) return;
    told = Date.now();
    tell({ rows: fitting.rows, bytes: Math.min(bytes, of), of });
  };
  const duck = await Duck.open(store.folder);
  try {
    for (const [place, file] of found.entries()) {
      const counted = {
        ...file,
        open: () =>
          Readable.from(
            (async function* () {
              for await (const piece of file.open()) {
                bytes += (piece as Buffer).length;
                yield piece;
              }
            })(),
            { objectMode: false },
          ),
      };
      const form = { ...from, types: {}, most: Number.POSITIVE_INFINITY };
      for (const shaped of await shapesOf(duck, counted, form, place)) {
        report();
        await fitting.read(shaped, Number.POSITIVE_INFINITY, report);
      }
    }
  } finally {
    await duck.close();
  }
  const { rows, faults } = fitting;
  const guessed = fitting.columns();
  const numbers = guessed.filter(({ fits }) => fits === "numeric");
  const comma =
    from.csv?.decimal ?? (numbers.length ? numbers : guessed).find(({ decimal }) => decimal !== undefined)?.decimal;
  // One sign is said for all of them: numbers with both are texts where it is not theirs.
  const types = fitting.columns(comma).map(({ name, fits }) => [name, fits]);
  return { rows, faults, types: Object.fromEntries(types), ...(comma === "," ? { decimal: comma } : {}) };
}

/** How often a file is read: JSON once more for the names of its members. */
const passes = ({ name }: FoundFile) => (["json", "ndjson"].includes(formatOf(name) ?? "") ? 2 : 1);
