import { Temporal } from "temporal-polyfill";
import type { From, SinceForm } from "../pipeline/pipeline.ts";
import { baseType, typeFamily } from "../sql/type.ts";

/** A moment as PostgreSQL prints it, or as ISO 8601; without a zone it is taken for UTC. */
function instantOf(text: string): Temporal.Instant {
  const iso = text.trim().replace(" ", "T");
  if (/^\d{4}-\d\d-\d\d$/.test(iso)) return Temporal.Instant.from(`${iso}T00:00Z`);
  return Temporal.Instant.from(/(?:[zZ]|[-+]\d\d(?::?\d\d)?)$/.test(iso) ? iso : `${iso}Z`);
}

/** A watermark as an application's own parameter asks for it: less its look-back, and by so little more as makes up for a bound that is left out. */
export function sinceValue(
  form: Pick<SinceForm, "excludes" | "as">,
  { value, type, lookBack }: { value: string; type: string; lookBack: string | null },
): string {
  if (typeFamily(type) !== "moment")
    return (BigInt(value.replace(/\..*$/, "")) - BigInt(lookBack ?? 0) - (form.excludes ? 1n : 0n)).toString();
  let moment = instantOf(value).toZonedDateTimeISO("UTC");
  if (lookBack !== null) moment = moment.subtract(Temporal.Duration.from(lookBack));
  if (form.excludes) moment = moment.subtract({ seconds: baseType(type) === "date" ? 86_400 : 1 });
  if (form.as === "seconds") return String(Math.floor(moment.epochMilliseconds / 1000));
  if (form.as === "milliseconds") return String(moment.epochMilliseconds);
  if (baseType(type) === "date") return moment.toPlainDate().toString();
  const plain = moment.toPlainDateTime().toString();
  return baseType(type) === "timestamp without time zone" ? plain : `${plain}Z`;
}

/**
 * What is asked where an interval's ends stand among the parameters: `:from` is where the last load ended, or left out where
 * everything is read, and `:to` is now, which needs no saying.
 */
export function askedSince(from: From, since: string | null): From {
  const { parameters } = from;
  if (!parameters) return from;
  const told = Object.entries(parameters).flatMap(([name, value]): [string, string][] =>
    value === ":from" ? (since === null ? [] : [[name, since]]) : value === ":to" ? [] : [[name, value]],
  );
  return { ...from, parameters: Object.fromEntries(told) };
}
