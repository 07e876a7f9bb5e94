import { existsSync, readFileSync, writeFileSync } from "node:fs";

/** What the Gate service has written down. Scans are made of their number, so that as many as wanted cost nothing. */

const ports = ["KIL", "SKV", "NES", "HOL", "TOR"];
const gates = ["foot", "car", "lorry"];
const minute = 60_000;

/** A number from another that looks like chance, and is the same each time. */
const scrambled = (seed: number) => {
  let value = Math.imul(seed ^ (seed >>> 16), 0x45d9f3b);
  value = Math.imul(value ^ (value >>> 13), 0x45d9f3b);
  return (value ^ (value >>> 16)) >>> 0;
};

interface Change {
  result: string;
  updated: number;
}

interface Kept {
  start: number;
  count: number;
  ahead: number;
  changes: [number, Change][];
  deleted: [number, number][];
}

/** Records after a place, as JSON, and by what a record's place is known. */
export interface Rows {
  of(after: string, most: number): string[];
  keyOf(record: string): string;
}

const iso = (at: number) => new Date(at).toISOString();
const keyOf = (record: string) => /^\{"\w+":(\d+)/.exec(record)?.[1] ?? "0";

export class Scans {
  private readonly start: number;
  private readonly changes = new Map<number, Change>();
  private readonly deleted = new Map<number, number>();
  private count: number;
  /** how far its clock has been put on, in milliseconds */
  private ahead = 0;

  /** @param file where it is kept, so that it is the same after another start; null where it is not */
  constructor(
    count: number,
    private readonly file: string | null,
  ) {
    const kept = file !== null && existsSync(file) ? (JSON.parse(readFileSync(file, "utf8")) as Kept) : null;
    // The latest was a minute ago.
    this.start = kept?.start ?? Math.floor(Date.now() / minute) * minute - count * minute;
    this.count = kept?.count ?? count;
    this.ahead = kept?.ahead ?? 0;
    for (const [id, change] of kept?.changes ?? []) this.changes.set(id, change);
    for (const [id, at] of kept?.deleted ?? []) this.deleted.set(id, at);
    this.keep();
  }

  private keep(): void {
    if (this.file === null) return;
    const { start, count, ahead, changes, deleted } = this;
    const kept: Kept = { start, count, ahead, changes: [...changes], deleted: [...deleted] };
    writeFileSync(this.file, JSON.stringify(kept));
  }

  private now(): number {
    return Date.now() + this.ahead;
  }

  private at(id: number): number {
    return this.start + id * minute;
  }

  private updated(id: number): number {
    return this.changes.get(id)?.updated ?? this.at(id);
  }

  private record(id: number, fields: "more" | "fewer" | null): string {
    const chance = scrambled(id);
    const result = this.changes.get(id)?.result ?? (chance % 40 === 0 ? "refused" : "passed");
    const cents = 300 + (chance % 9000);
    const paid = `${Math.floor(cents / 100)}.${String(cents % 100).padStart(2, "0")}`;
    const device = `{"id":"G-${chance % 60}","firmware":"4.${chance % 9}"}`;
    const more = fields === "more" ? `,"lane":${chance % 4}` : "";
    const gate = fields === "fewer" ? "" : `,"gate":"${gates[chance % gates.length]}"`;
    return `{"scan_id":${id},"ticket":${9_007_199_254_740_993n + BigInt(id)},"port":"${ports[chance % ports.length]}"${gate},"result":"${result}","paid":${paid},"scanned_at":"${iso(this.at(id))}","updated_at":"${iso(this.updated(id))}","device":${device}${more}}`;
  }

  /** Scans in the order of their numbers; `since`: those that changed after it. */
  page(since: string | null, fields: "more" | "fewer" | null): Rows {
    const from = since === null ? null : Date.parse(since);
    return {
      keyOf,
      of: (after, most) => {
        const found: string[] = [];
        const first = Number(after || "0") + 1;
        const told = (id: number) => {
          if (!this.deleted.has(id)) found.push(this.record(id, fields));
        };
        if (from === null || Number.isNaN(from)) {
          for (let id = first; id <= this.count && found.length < most; id++) told(id);
          return found;
        }
        // What was never changed is in the order of time too.
        const tail = Math.max(first, Math.floor((from - this.start) / minute) + 1);
        const before = [...this.changes.keys()].filter((id) => id >= first && id < tail && this.updated(id) > from);
        for (const id of before.toSorted((a, b) => a - b)) if (found.length < most) told(id);
        for (let id = tail; id <= this.count && found.length < most; id++) if (this.updated(id) > from) told(id);
        return found;
      },
    };
  }

  get size(): number {
    return this.count;
  }

  /** A part of all scans as CSV, of so many each. */
  csv(part: number, size: number): string {
    const lines = ["scan_id,ticket,port,gate,result,paid,scanned_at,updated_at,device"];
    for (let id = part * size + 1; id <= Math.min(this.count, (part + 1) * size); id++) {
      if (this.deleted.has(id)) continue;
      const fields = [...this.record(id, null).matchAll(/"\w+":("[^"]*"|\{[^}]*\}|[^,}]+)(?=[,}])/g)].map(
        ([, value = ""]) => value,
      );
      lines.push(
        fields
          .slice(0, 9)
          .map((value) => (value.startsWith("{") ? `"${value.replaceAll('"', '""')}"` : value))
          .join(","),
      );
    }
    return `${lines.join("\n")}\n`;
  }

  /** @param since only those that were struck out then or later */
  deletedPage(since: string | null): Rows {
    const from = Date.parse(since ?? "") || 0;
    const all = [...this.deleted].filter(([, at]) => at >= from).toSorted(([a], [b]) => a - b);
    return {
      keyOf,
      of: (after, most) =>
        all
          .filter(([id]) => id > Number(after || "0"))
          .slice(0, most)
          .map(([id, at]) => `{"scan_id":${id},"deleted_at":"${iso(at)}"}`),
    };
  }

  incidentPage(): Rows {
    const count = Math.floor(this.count / 1500);
    return {
      keyOf,
      of: (after, most) => {
        const found: string[] = [];
        for (let id = Number(after || "0") + 1; id <= count && found.length < most; id++) {
          const chance = scrambled(id * 7919);
          const text = ["gate jammed", "ticket torn", "lane closed", "wind above 20 m/s"][chance % 4];
          found.push(
            `{"incident_id":${id},"port":"${ports[chance % ports.length]}","text":"${text}","minutes":${chance % 90},"began_at":"${iso(this.at(id * 1500))}","updated_at":"${iso(this.at(id * 1500 + 30))}"}`,
          );
        }
        return found;
      },
    };
  }

  /** Sixty scans come, fifteen are put right, two are struck out. */
  passHour(): { added: number; changed: number; deleted: number } {
    const added = 60;
    this.count += added;
    this.ahead = Math.max(0, this.at(this.count) - Date.now());
    const changed = 15;
    for (let at = 0; at < changed; at++) {
      const id = 1 + (scrambled(this.count * 31 + at) % (this.count - added));
      if (!this.deleted.has(id)) this.changes.set(id, { result: "corrected", updated: this.now() });
    }
    const deleted = 2;
    for (let at = 0; at < deleted; at++)
      this.deleted.set(1 + (scrambled(this.count * 37 + at) % (this.count - added)), this.now());
    this.keep();
    return { added, changed, deleted };
  }
}
