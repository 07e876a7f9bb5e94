/** What stands behind a typed client's question: an answer in JSON. */
interface Answer<T> {
  json(): Promise<T>;
}

/** What the server answers. */
export const answer = async <T>(asked: Promise<Answer<T>>): Promise<T> => (await asked).json();

/** The variable parts of a path, as an address holds them. */
export const path = <P extends Record<string, string>>(parts: P): { param: P } => ({
  param: Object.fromEntries(Object.entries(parts).map(([name, part]) => [name, encodeURIComponent(part)])) as P,
});
