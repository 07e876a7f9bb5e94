/** What a load reads and writes, as tables' names. */
export interface LoadTables {
  reads: string[];
  writes: string;
}

/** For each load, the others that write what it reads. */
export function dependencies(loads: ReadonlyMap<string, LoadTables>): Map<string, string[]> {
  const writer = new Map([...loads].map(([name, { writes }]) => [writes, name]));
  return new Map(
    [...loads].map(([name, { reads }]) => [
      name,
      [...new Set(reads.flatMap((table) => writer.get(table) ?? []))].filter((other) => other !== name),
    ]),
  );
}

/** Loads that wait for each other in a ring, each for the next; null where there is none. */
export function findRing(waits: ReadonlyMap<string, readonly string[]>): string[] | null {
  const settled = new Set<string>();
  const walk = (name: string, path: string[]): string[] | null => {
    if (path.includes(name)) return path.slice(path.indexOf(name));
    if (settled.has(name)) return null;
    for (const next of waits.get(name) ?? []) {
      const ring = walk(next, [...path, name]);
      if (ring) return ring;
    }
    settled.add(name);
    return null;
  };
  for (const name of waits.keys()) {
    const ring = walk(name, []);
    if (ring) return ring;
  }
  return null;
}
