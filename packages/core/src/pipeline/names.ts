/** A name that can stand in an address and on a command line. */
export function slugOf(text: string): string {
  const plain = text
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");
  return plain.slice(0, 63) || "load";
}

/** True where a name matches a pattern in which `*` stands for any characters. */
export function matchesPattern(name: string, pattern: string): boolean {
  const parts = pattern.split("*").map((part) => part.replace(/[.+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${parts.join(".*")}$`, "su").test(name);
}

/** A name that is not taken yet: `booking`, `booking-2` … */
export function freeName(wanted: string, taken: ReadonlySet<string>, between = "-"): string {
  let free = wanted;
  for (let number = 2; taken.has(free); number++) free = `${wanted.slice(0, 58)}${between}${number}`;
  return free;
}
