import { appendFileSync, existsSync, mkdirSync, readdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** The ports' tills, which leave a file a day in a drop. */

const ports = ["KIL", "ORM", "STA", "FUR", "MAR"];
const days = 14;

const comma = (cents: number) => `${Math.floor(cents / 100)},${String(cents % 100).padStart(2, "0")}`;

/** A day's takings of every till, in the same numbers whenever they are made. */
function dayFile(day: Date, number: number): string {
  const text = day.toISOString().slice(0, 10);
  const lines = ports.flatMap((port, at) =>
    [1, 2].map((till) => {
      const cents = 120_000 + ((number * 7919 + at * 104_729 + till * 1_299_709) % 880_000);
      return `${text};${port}-${till};${20 + ((number * 31 + at * 17 + till) % 90)};${comma(cents)}`;
    }),
  );
  return `day;till;tickets;takings\n${lines.join("\n")}\n`;
}

const folderOf = (drop: string) => join(drop, "out");

function leave(drop: string, daysAgo: number): void {
  const day = new Date(Date.now() - daysAgo * 86_400_000);
  const number = Math.floor(day.getTime() / 86_400_000);
  const name = `till-${day.toISOString().slice(0, 10)}.csv`;
  const text = dayFile(day, number);
  writeFileSync(join(folderOf(drop), name), text);
  // What the file ought to hold lies beside it.
  const control = join(folderOf(drop), "control.csv");
  if (!existsSync(control)) writeFileSync(control, "file;rows;sum(takings)\n");
  const takings = text
    .split("\n")
    .slice(1, -1)
    .map((line) => Number(line.split(";")[3]?.replace(",", "")));
  appendFileSync(control, `${name};${takings.length};${comma(takings.reduce((sum, cents) => sum + cents, 0))}\n`);
}

/** Fills the drop with the last days' files, where nothing is in it yet. */
export function makeTills(drop: string): void {
  if (existsSync(folderOf(drop))) return;
  mkdirSync(folderOf(drop), { recursive: true });
  for (let ago = days; ago > 0; ago--) leave(drop, ago);
}

/** An hour at the tills: the file of the day before the first that there ever was comes late. */
export function passTillHour(drop: string): void {
  const taken = join(drop, "taken", "out");
  const known = [folderOf(drop), taken].flatMap((folder) => (existsSync(folder) ? readdirSync(folder) : []));
  for (let ago = days + 1; ; ago++) {
    const day = new Date(Date.now() - ago * 86_400_000).toISOString().slice(0, 10);
    if (known.includes(`till-${day}.csv`)) continue;
    leave(drop, ago);
    return;
  }
}
