import { filled, holesIn, valuesIn } from "../parameter/scan.ts";
import type { MarkForm } from "../pipeline/pipeline.ts";

/** What a source is told of a row that was turned away: a request, or an SQL statement with its values in their order. */
export type Mark =
  | { method: string; path: string; body: string | null }
  | { sql: string; names: string[]; values: (string | null)[] };

/** A row that was turned away, and why. */
export interface MarkedRow {
  /** the source's values as text, by their names; null where the row is none, or was not kept */
  values: Readonly<Record<string, string | null>> | null;
  /** the reason that it shares with others, and this with the value that is wrong */
  reason: string;
  message: string;
}

/** Names that stand for what was found; a source's own columns of these names are not told. */
const found = ["reason", "message"] as const;

/** Most rows that are told in one run, where a load does not say. */
export const usualMarks = 100;

function textsIn(body: unknown): string[] {
  if (typeof body === "string") return [body];
  if (typeof body !== "object" || body === null) return [];
  return Object.values(body).flatMap(textsIn);
}

/** The names that a form mentions, each once; what they stand for is known for each row. */
export function markNames({ path = "", body, sql }: MarkForm): string[] {
  const mentions = sql === undefined ? [path, ...textsIn(body)].flatMap(holesIn) : valuesIn(sql);
  return [...new Set(mentions.map(({ name }) => name))];
}

/** The columns of the source that a form needs. */
export const markColumns = (form: MarkForm): string[] =>
  markNames(form).filter((name) => !found.some((own) => own === name));

/** A body with values in the places of names, wherever a text stands in it. */
function bodyWith(body: unknown, give: (name: string) => string | undefined): unknown {
  if (typeof body === "string") return filled(body, holesIn(body), give);
  if (Array.isArray(body)) return body.map((one) => bodyWith(one, give));
  if (typeof body !== "object" || body === null) return body;
  return Object.fromEntries(Object.entries(body).map(([name, value]) => [name, bodyWith(value, give)]));
}

/** What is told of a row; where it can't be, the names that it has no value for. */
export function markOf(form: MarkForm, row: MarkedRow): Mark | { lacks: string[] } {
  const given: Record<string, string | null | undefined> = { ...row.values, reason: row.reason, message: row.message };
  const own = (name: string) => (Object.hasOwn(given, name) ? given[name] : undefined);
  if (form.sql !== undefined) {
    const names = markNames(form);
    const lacks = names.filter((name) => own(name) === undefined);
    if (lacks.length) return { lacks };
    return { sql: form.sql, names, values: names.map((name) => own(name) ?? null) };
  }
  // A null has no place in a path, and none in a text.
  const lacks = markNames(form).filter((name) => own(name) == null);
  if (lacks.length) return { lacks };
  const { path = "", body, method = "POST" } = form;
  const coded = (name: string) => encodeURIComponent(own(name) ?? "");
  return {
    method,
    path: filled(path, holesIn(path), coded),
    body: body === undefined ? null : JSON.stringify(bodyWith(body, (name) => own(name) ?? undefined)),
  };
}

/** A statement with a sign of its server's in the place of each value. */
export function boundMark(
  { sql, names, values }: Extract<Mark, { sql: string }>,
  sign: "numbered" | "questions",
): { sql: string; values: (string | null)[] } {
  if (sign === "numbered") return { sql: filled(sql, valuesIn(sql), (name) => `$${names.indexOf(name) + 1}`), values };
  const order = valuesIn(sql).map(({ name }) => values[names.indexOf(name)] ?? null);
  return { sql: filled(sql, valuesIn(sql), () => "?"), values: order };
}

/** A mark for people: `POST /scans/17/comments {"text":"fare is negative"}`. */
export function markWords(mark: Mark): string {
  if ("path" in mark) return `${mark.method} ${mark.path}${mark.body === null ? "" : ` ${mark.body}`}`;
  const given = mark.names.map((name, at) => `${name} = ${mark.values[at] ?? "null"}`);
  return given.length ? `${mark.sql} · ${given.join(", ")}` : mark.sql;
}

/** What became of a run's marks. */
export interface MarksTold {
  sent: number;
  /** answered with no, and tried again by the next run */
  refused: number;
  /** of which it is not known whether they arrived; these are not sent again */
  unsure: number;
  /** rows that lack what the mark needs, and rows that wait for the next run */
  lacking: number;
  left: number;
  /** why the first was refused, or is unsure */
  why: string | null;
}

/** True where somebody should look at what became of them. */
export const marksFailed = ({ refused, unsure, why }: MarksTold): boolean => refused + unsure > 0 || why !== null;

/** `12 rows told to the source, 2 refused: gate answered 403` */
export function marksWords({ sent, refused, unsure, lacking, left, why }: MarksTold): string {
  const parts = [
    `${sent} ${sent === 1 ? "row" : "rows"} told to the source`,
    ...(refused ? [`${refused} refused`] : []),
    ...(unsure ? [`${unsure} sent without an answer, not sent again`] : []),
    ...(lacking ? [`${lacking} without what the mark needs`] : []),
    ...(left ? [`${left} left for the next run`] : []),
  ];
  return `${parts.join(", ")}${why === null ? "" : `: ${why}`}`;
}
