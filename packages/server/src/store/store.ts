import type { Event } from "@undercoat/core/api/api";
import { connectionsOf, placesOf } from "@undercoat/core/parameter/resolve";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { Consent, Credentials } from "@undercoat/engine/connection/credentials";
import pg from "pg";
import { BaseError, QueryTypes, Sequelize, type Transaction } from "sequelize";
import { SequelizeStorage, Umzug } from "umzug";
import { seal, unseal } from "../secret.ts";
import { listen } from "./ear.ts";
import { migrations } from "./migrations.ts";
import { bindModels, ConnectionRow, PipelineRow } from "./models.ts";

/** Where every process of an installation hears of the others' doings. */
const eventChannel = "undercoat_event";
const jobChannel = "undercoat_job";
const cancelChannel = "undercoat_cancel";

/** A connection that somebody names and nobody has made, or that has been deleted. */
export class UnknownConnection extends Error {
  constructor(name: string) {
    super(`There is no connection ${name}`);
  }
}

/** True for an error of the product's own database: what it says there is not the load's matter. */
export function isStoreError(error: unknown): boolean {
  return error instanceof BaseError;
}

/** A table that a pipeline writes, or a part of one. */
export interface Target {
  pipeline: string;
  warehouse: string;
  table: string;
  part: string | null;
}

export function targetsOf(pipeline: string, definition: Pipeline): Target[] {
  return placesOf(definition, Date.now()).map(({ warehouse, table, part }) => ({ pipeline, warehouse, table, part }));
}

/** The product's own database. */
/** What a sealed refresh token is about. */
const consentOf = (name: string) => `consent ${name}`;

export class Store {
  private constructor(
    readonly url: string,
    readonly sequelize: Sequelize,
    private readonly key: Buffer,
  ) {}

  /** Connects and brings the tables up to date; several processes may do so at once. */
  static async open(url: string, key: Buffer): Promise<Store> {
    const sequelize = new Sequelize(url, {
      dialect: "postgres",
      logging: false,
      pool: { max: 8, idle: 30_000 },
      dialectOptions: { application_name: "undercoat store" },
    });
    bindModels(sequelize);
    const umzug = new Umzug({
      migrations,
      context: sequelize.getQueryInterface(),
      storage: new SequelizeStorage({ sequelize, tableName: "migrations" }),
      logger: undefined,
    });
    const gate = new pg.Client({ connectionString: url });
    await gate.connect();
    try {
      await gate.query("SELECT pg_advisory_lock(1970169957)");
      await umzug.up();
    } finally {
      await gate.end();
    }
    return new Store(url, sequelize, key);
  }

  /** Does work that one process at a time does, of all that use this database; null where another is at it. */
  async alone<T>(what: string, work: () => Promise<T>): Promise<T | null> {
    const client = new pg.Client({ connectionString: this.url, application_name: "undercoat alone" });
    client.on("error", () => undefined);
    await client.connect();
    try {
      const { rows } = await client.query("SELECT pg_try_advisory_lock(1970169957, hashtext($1)) AS taken", [what]);
      return rows[0]?.taken ? await work() : null;
    } finally {
      await client.end();
    }
  }

  /** True where the database answers within two seconds. */
  async answers(): Promise<boolean> {
    const asked = this.query("SELECT 1 AS one").then(
      () => true,
      () => false,
    );
    let timer: NodeJS.Timeout | undefined;
    const late = new Promise<boolean>((done) => {
      timer = setTimeout(() => done(false), 2000);
    });
    return Promise.race([asked, late]).finally(() => clearTimeout(timer));
  }

  /** A connection with its password opened. @throws UnknownConnection */
  async credentials(name: string): Promise<Credentials> {
    const row = await ConnectionRow.findByPk(name);
    if (!row) throw new UnknownConnection(name);
    const password = row.secret === null ? "" : unseal(this.key, row.secret, name);
    const consent: Consent | undefined = row.consent === null ? undefined : { renew: (work) => this.renew(name, work) };
    return { name, settings: row.settings, password, ...(consent ? { consent } : {}) };
  }

  /** Keeps the refresh token of somebody's consent. */
  async keepConsent(name: string, refresh: string): Promise<void> {
    await ConnectionRow.update({ consent: seal(this.key, refresh, consentOf(name)) }, { where: { name } });
  }

  /** Turns a refresh token into tokens while its row is held: where each is good for once, two processes must not both use one. */
  private renew<T>(name: string, work: (refresh: string) => Promise<{ refresh: string; got: T }>): Promise<T> {
    return this.sequelize.transaction(async (transaction) => {
      const row = await ConnectionRow.findByPk(name, { transaction, lock: true });
      if (!row?.consent) throw new UnknownConnection(name);
      const before = unseal(this.key, row.consent, consentOf(name));
      const { refresh, got } = await work(before);
      if (refresh !== before) await row.update({ consent: seal(this.key, refresh, consentOf(name)) }, { transaction });
      return got;
    });
  }

  async connectionNames(): Promise<string[]> {
    return (await ConnectionRow.findAll({ attributes: ["name"] })).map((row) => row.name);
  }

  /** All pipelines by name, as they are saved. */
  async pipelines(): Promise<Map<string, Pipeline>> {
    return new Map((await PipelineRow.findAll({ order: ["name"] })).map((row) => [row.name, row.definition]));
  }

  /** The warehouses that pipelines write into; of one pipeline where it is named. */
  async warehouses(pipeline?: string): Promise<string[]> {
    const rows = await PipelineRow.findAll({ where: pipeline ? { name: pipeline } : {} });
    return [...new Set(rows.flatMap((row) => [...connectionsOf(row.definition, Date.now()).warehouses]))];
  }

  async query<T extends object>(sql: string, replacements: Record<string, unknown> = {}): Promise<T[]> {
    return this.sequelize.query<T>(sql, { replacements, type: QueryTypes.SELECT });
  }

  /** In a transaction it is heard when that commits, and not at all when it does not. */
  private async notify(channel: string, payload: string, transaction?: Transaction): Promise<void> {
    await this.sequelize.query("SELECT pg_notify(:channel, :payload)", {
      replacements: { channel, payload },
      transaction,
      type: QueryTypes.SELECT,
    });
  }

  tell(event: Event, transaction?: Transaction): Promise<void> {
    return this.notify(eventChannel, JSON.stringify(event), transaction);
  }

  wakeWorkers(transaction?: Transaction): Promise<void> {
    return this.notify(jobChannel, "", transaction);
  }

  askToCancel(run: number, transaction?: Transaction): Promise<void> {
    return this.notify(cancelChannel, String(run), transaction);
  }

  /** Hears what other processes say until the returned function is called; a lost connection is made again. */
  listen(heard: {
    event?: (event: Event) => void;
    job?: () => void;
    cancel?: (run: number) => void;
    /** something may have been said that was not heard */
    back?: () => void;
  }): Promise<() => Promise<void>> {
    const channels: Record<string, (payload: string) => void> = {};
    const { event, job, cancel } = heard;
    if (event) channels[eventChannel] = (payload) => event(JSON.parse(payload));
    if (job) channels[jobChannel] = () => job();
    if (cancel) channels[cancelChannel] = (payload) => cancel(Number(payload));
    return listen(this.url, channels, heard.back);
  }

  async close(): Promise<void> {
    await this.sequelize.close();
  }
}
