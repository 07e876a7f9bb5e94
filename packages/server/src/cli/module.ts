import { existsSync, mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { SettingError } from "../settings.ts";

/** A module to begin with: it works as it stands, and says what each of its parts is for. */
const template = `// A module is a source of your own. It runs in a process that has no files, no environment, and no
// network but fetch() to the hosts that its connection names. It stands alone: nothing can be imported.

// What it reads. For each set of records: which fields identify one, which field tells of its changes,
// and the fields' types where they are not to be found out from the first records.
export function describe(settings) {
  return {
    datasets: [
      {
        name: "readings",
        key: "reading_id",
        changes: "measured_at",
        fields: { reading_id: "bigint", station: "text", metres: "numeric", measured_at: "timestamptz" },
      },
    ],
  };
}

// Records of one set, one by one or in lists. \`since\` is when what changed is wanted from, as ISO 8601, or
// null for everything; \`signal.aborted\` says that nobody waits any more. A number that is larger than
// 2^53, or must be exact to its last digit, is a bigint or a text.
export async function* read({ dataset, since, settings, fetch, log }) {
  const hour = 3_600_000;
  const first = Date.UTC(2026, 0, 1);
  const from = since === null ? first : Math.max(first, Date.parse(since));
  log("reading", dataset, "from", new Date(from).toISOString());
  for (let at = Math.ceil(from / hour) * hour; at <= Date.now(); at += hour) {
    // Two tides a day: what a gauge at the quay would measure, in metres, to the centimetre.
    const metres = 1.2 + 0.9 * Math.sin((2 * Math.PI * (at - first)) / (12.42 * hour));
    yield {
      reading_id: (at - first) / hour,
      station: settings.station ?? "KIL",
      metres: metres.toFixed(2),
      measured_at: new Date(at),
    };
  }
}
`;

/** Writes a module to begin with into the folder of modules. @returns its path @throws SettingError where one is there */
export function writeModule(folder: string, name: string): string {
  if (!/^[A-Za-z0-9][A-Za-z0-9_-]*(\.(mjs|js|ts))?$/.test(name))
    throw new SettingError(`${name} is no name for a module; write one of letters, digits, - and _.`);
  const path = join(folder, /\.(mjs|js|ts)$/.test(name) ? name : `${name}.mjs`);
  if (existsSync(path)) throw new SettingError(`${path} is there already.`);
  mkdirSync(folder, { recursive: true });
  writeFileSync(path, template);
  return path;
}
