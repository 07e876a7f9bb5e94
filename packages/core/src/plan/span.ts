import { filled, valuesIn } from "../parameter/scan.ts";
import type { From } from "../pipeline/pipeline.ts";
import { typedLiteral } from "../sql/literal.ts";
import { typeFamily } from "../sql/type.ts";
import type { LoadPlan, ReadRequest } from "./plan.ts";
import type { Window } from "./window.ts";

/** The interval that `:from` and `:to` stand for in a condition or a query, as SQL of type timestamptz: from (included) to (excluded). */
interface Span {
  from: string;
  to: string;
}

/** Up to now, as a proof and a whole read see it. */
const everything: Span = { from: "('-infinity'::timestamptz)", to: "(now())" };

function withSpan(sql: string, span: Span): string {
  const give: Record<string, string> = { from: span.from, to: span.to };
  return filled(sql, valuesIn(sql), (name) => (Object.hasOwn(give, name) ? give[name] : undefined));
}

/** What is read, with the interval of everything in the places of `:from` and `:to`. */
export function spanned(from: From): From {
  return {
    ...from,
    ...(from.query ? { query: withSpan(from.query, everything) } : {}),
    ...(from.where ? { where: withSpan(from.where, everything) } : {}),
  };
}

/** The texts that ask for an interval, as their author wrote them; null where none does. */
export function spansOf(from: From): ReadRequest["spans"] {
  const asks = (sql: string | undefined) => valuesIn(sql ?? "").some(({ name }) => name === "from" || name === "to");
  return asks(from.query) || asks(from.where) ? { query: from.query ?? null, where: from.where ?? null } : null;
}

/** The interval of a window: from the watermark less its look-back, or the one that is loaded again; else everything. */
function spanOf({ read: { watermark } }: LoadPlan, window: Window): Span {
  if (window.kind === "since" && watermark && typeFamily(watermark.type) === "moment") {
    const back = watermark.lookBack === null ? "" : ` - ${typedLiteral(watermark.lookBack, "interval")}`;
    return { ...everything, from: `((${typedLiteral(window.value, watermark.type)}${back})::timestamptz)` };
  }
  if (window.kind !== "interval" || typeFamily(window.type) !== "moment") return everything;
  const bound = (text: string) => `(${typedLiteral(text, window.type)}::timestamptz)`;
  return { from: bound(window.from), to: bound(window.to) };
}

/** A plan that reads a window: a condition or a query that asks for the interval is told it. */
export function forWindow(plan: LoadPlan, window: Window): LoadPlan {
  const { spans } = plan.read;
  if (!spans) return plan;
  const span = spanOf(plan, window);
  const told = (sql: string | null) => (sql === null ? null : withSpan(sql, span));
  return { ...plan, read: { ...plan.read, query: told(spans.query), where: told(spans.where) } };
}
