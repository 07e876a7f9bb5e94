/** Exact decimal text, as PostgreSQL prints numeric: no float ever touches it. */
const decimal = /^(-?)(\d+)(?:\.(\d+))?$/;

function scaled(text: string, scale: number): bigint | null {
  const match = decimal.exec(text);
  if (!match) return null;
  const digits = BigInt(match[2] + (match[3] ?? "").padEnd(scale, "0"));
  return match[1] ? -digits : digits;
}

function scaleOf(text: string): number {
  return text.includes(".") ? text.length - text.indexOf(".") - 1 : 0;
}

/** `a − b` as exact text with the larger scale of the two; null where either is no finite decimal. */
export function subtract(a: string, b: string): string | null {
  const scale = Math.max(scaleOf(a), scaleOf(b));
  const left = scaled(a, scale);
  const right = scaled(b, scale);
  if (left === null || right === null) return null;
  const difference = left - right;
  const digits = (difference < 0n ? -difference : difference).toString().padStart(scale + 1, "0");
  const text = scale ? `${digits.slice(0, -scale)}.${digits.slice(-scale)}` : digits;
  return difference < 0n ? `-${text}` : text;
}

/** `1204118.50` → `1,204,118.50`; text that is no decimal comes back as it is. */
export function grouped(text: string): string {
  const match = decimal.exec(text);
  if (!match) return text;
  return `${match[1] ? "−" : ""}${(match[2] ?? "").replace(/\B(?=(\d{3})+$)/g, ",")}${match[3] ? `.${match[3]}` : ""}`;
}
