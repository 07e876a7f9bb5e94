import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import { deltaLink, trackChanges } from "@undercoat/core/http/delta";
import { askedOf, changedSince, nextLink, readMetadata, within } from "@undercoat/core/http/odata";
import type { ApiResource } from "@undercoat/core/http/openapi";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { TableName } from "@undercoat/core/sql/identifier";
import { type CheckStep, networkSteps, runSteps } from "../../connection/check.ts";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { LoadFailure, NoTable } from "../../failure.ts";
import { HttpClient } from "../../http/client.ts";
import { destination } from "../../http/reach.ts";
import { httpTeller } from "../../mark/http.ts";
import type { Teller } from "../../mark/teller.ts";
import { HttpSnapshot } from "../http/snapshot.ts";
import { timesOf } from "../http/times.ts";
import { jsonRecord } from "../members.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";

/** How records are asked for: without what the service says of itself, and so many a page where it hears that. */
const prefer = "odata.maxpagesize=1000";
const asks = {
  accept: "application/json;odata.metadata=none",
  headers: { prefer, "odata-maxversion": "4.0" },
};
/** How they are where what changes is told: what is gone is known by what the service says of it. */
const tracking = {
  link: deltaLink,
  asks: {
    accept: "application/json;odata.metadata=minimal",
    headers: { ...asks.headers, prefer: `${prefer},${trackChanges}` },
  },
};
/** How long a service's metadata is taken to stand, in milliseconds. */
const lasting = 60_000;
const known = new Map<string, { at: number; sets: Promise<ApiResource[]> }>();

/** A service of OData 4 as a source: its entity sets, with the keys and types of its metadata. */
export class ODataSource implements Source {
  private readonly client: HttpClient;

  constructor(private readonly credentials: CredentialsOf<"odata">) {
    this.client = new HttpClient(credentials);
  }

  check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings, name } = this.credentials;
    const at = destination(new URL(settings.url));
    return runSteps(
      { name, ...at },
      [
        ...networkSteps(at),
        [
          "description",
          async () => {
            const sets = await this.sets(true);
            return { fact: `its metadata names ${sets.length} entity sets` };
          },
        ],
        [
          "read",
          async () => {
            const [first] = await this.sets();
            if (!first) throw new LoadFailure({ message: `${name} has no entity sets` });
            const rows = await this.firstRows({ schema: ".", table: first.path.slice(1) }, 5);
            return { fact: `${first.path.slice(1)} gives ${rows.length ? "records" : "no records now"}` };
          },
        ],
        [
          "write",
          async () => {
            if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
            throw new LoadFailure({ message: "A service is a source only; a warehouse is PostgreSQL" });
          },
        ],
      ],
      tell,
    );
  }

  /** Its entity sets. @throws LoadFailure where its metadata can't be read */
  private sets(anew = false): Promise<ApiResource[]> {
    const { name, settings } = this.credentials;
    const key = `${name} ${settings.url}`;
    const told = known.get(key);
    if (told && !anew && Date.now() - told.at < lasting) return told.sets;
    const sets = this.client
      .ask({ address: this.client.address("/$metadata"), accept: "application/xml" })
      .then(({ body }) => readMetadata(body.toString("utf8")))
      .catch((error: unknown) => {
        known.delete(key);
        if (!(error instanceof RangeError)) throw error;
        throw new LoadFailure({
          message: `${name}: ${error.message}`,
          hint: "Check the address: $metadata stands right below it.",
        });
      });
    known.set(key, { at: Date.now(), sets });
    return sets;
  }

  private async set(from: From): Promise<ApiResource> {
    const { name } = this.credentials;
    if (from.table === undefined)
      throw new LoadFailure({
        message: `${name} is an OData service: it is read by entity sets`,
        hint: "Name one: from: { table: Customers }",
      });
    const found = (await this.sets()).find(({ path }) => path === `/${from.table}`);
    if (!found) throw new NoTable({ message: `${name} has no table ${from.table} (entity set)` });
    return found;
  }

  async datasets(): Promise<DatasetSummary[]> {
    return (await this.sets()).map(({ path }) => ({
      schema: ".",
      name: path.slice(1),
      kind: "resource",
      rows: null,
      bytes: null,
      comment: null,
    }));
  }

  async dataset({ table }: TableName): Promise<Dataset> {
    return this.open().describe({ connection: this.credentials.name, table });
  }

  async firstRows({ table }: TableName, limit: number): Promise<Row[]> {
    const { records } = await this.open().first({ connection: this.credentials.name, table });
    return records.slice(0, limit).flatMap((text, at) => {
      const record = jsonRecord(text, at + 1, false);
      return "fault" in record ? [] : [Object.fromEntries([...record.values].filter(([name]) => !name.includes("@")))];
    });
  }

  async timeColumns(table: TableName): Promise<TimeColumn[]> {
    return timesOf(await this.dataset(table));
  }

  async arrivals(): Promise<null> {
    return null;
  }

  private open({ waiting, note, signal, goesOn = false }: SnapshotOptions = {}): HttpSnapshot {
    return new HttpSnapshot({
      name: this.credentials.name,
      client: this.client,
      asks,
      tracking,
      resource: (from) => this.set(from),
      asked: async (from) => {
        const set = await this.set(from);
        const { connection, origin } = from;
        return {
          connection,
          ...(origin === undefined ? {} : { origin }),
          path: set.within?.path ?? set.path,
          ...(set.within
            ? { each: set.within.each, ...(set.within.keep.length ? { keep: set.within.keep } : {}) }
            : {}),
          records: "value",
          page: { next: nextLink },
          count: "@odata.count",
          parameters: askedOf(set),
        };
      },
      picked: (members) => ({ $select: members.join(",") }),
      counting: { alone: { $top: "0" }, slice: (member, bounds) => ({ $filter: within(member, bounds) }) },
      changed: (column, value) => ({ $filter: changedSince(column, value) }),
      goesOn,
      waiting,
      note,
      signal,
    });
  }

  async teller(signal: AbortSignal): Promise<Teller> {
    return httpTeller(this.credentials, signal);
  }

  async snapshot(_application: string, options: SnapshotOptions = {}): Promise<Snapshot> {
    await options.after;
    return this.open(options);
  }
}
