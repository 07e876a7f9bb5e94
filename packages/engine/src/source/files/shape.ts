import { formatOf } from "@undercoat/core/file/format";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import { csvOf } from "./csv.ts";
import type { Duck } from "./duck.ts";
import { jsonOf } from "./json.ts";
import { parquetOf } from "./parquet.ts";
import type { ShapedFile } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** How an author says that files are written; what is absent is guessed. */
export interface FileForm extends Pick<From, "csv" | "sheets" | "range" | "flatten" | "types"> {
  /** so many records are looked at for the members of JSON objects */
  most?: number;
}

/**
 * Finds out how a file is written; a workbook is as many as it has sheets that are chosen.
 * @param place a number that no other file of this reader has
 */
export async function shapesOf(duck: Duck, file: FoundFile, form: FileForm = {}, place = 0): Promise<ShapedFile[]> {
  if (formatOf(file.name) !== "xlsx") return [await shapeOf(duck, file, form, place)];
  const { sheetsOf } = await import("./workbook.ts");
  return sheetsOf(duck, file, form);
}

/** Finds out how a file of one kind of rows is written. */
export async function shapeOf(
  duck: Duck,
  file: FoundFile,
  { csv = {}, ...json }: FileForm = {},
  place = 0,
): Promise<ShapedFile> {
  switch (formatOf(file.name)) {
    case "parquet":
      return parquetOf(duck, file);
    case "json":
      return jsonOf(file, "record", json);
    case "ndjson":
      return jsonOf(file, "line", json);
    case "tsv":
      return csvOf(duck, file, { delimiter: "\t", ...csv }, place);
    case "csv":
      return csvOf(duck, file, csv, place);
    default:
      throw new LoadFailure({
        message: `${file.name} is in no format that is read`,
        hint: "Files end in .csv, .tsv, .txt, .json, .ndjson, .parquet or .xlsx, each also in .gz.",
      });
  }
}
