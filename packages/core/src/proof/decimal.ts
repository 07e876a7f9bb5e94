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
  return written(left - right, scale);
}

/** The exact sum of decimals, with the largest scale of them. @throws RangeError for what is none */
export function addUp(texts: readonly string[]): string {
  const scale = Math.max(0, ...texts.map(scaleOf));
  const sum = texts.reduce((so, text) => {
    const value = scaled(text, scale);
    if (value === null) throw new RangeError(`${text} is no decimal`);
    return so + value;
  }, 0n);
  return written(sum, scale);
}

/** A whole number of units of a scale as decimal text. */
function written(value: bigint, scale: number): string {
  const digits = (value < 0n ? -value : value).toString().padStart(scale + 1, "0");
  const text = scale ? `${digits.slice(0, -scale)}.${digits.slice(-scale)}` : digits;
  return value < 0n ? `-${text}` : text;
}

/** `1204118.50` → `1,204,118.50`; text that is no decimal comes back as it is. */
export function grouped(text: string): string {
  const match = decimal.exec(text);
  if (!match) return text;
  return `${match[1] ? "−" : ""}${(match[2] ?? "").replace(/\B(?=(\d{3})+$)/g, ",")}${match[3] ? `.${match[3]}` : ""}`;
}
