import { randomBytes } from "node:crypto";
import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join, resolve } from "node:path";
import { fileURLToPath } from "node:url";
import { durationSeconds } from "@undercoat/core/schedule/duration";
import type { Keeping } from "./jobs/prune.ts";

/** A setting that can't be used, in one sentence. */
export class SettingError extends Error {}

/** The checkout's folder. */
export const checkout = fileURLToPath(new URL("../../..", import.meta.url));

export interface Settings {
  data: string;
  host: string;
  port: number;
  databaseUrl: string | null;
  key: Buffer;
  /** where people reach the product, where that is not the server's own address; without a slash at the end */
  address: string | null;
  /** host names that the server answers to, beside its own address and localhost; small letters */
  hosts: string[];
  /** addresses of reverse proxies whose forwarded headers are believed */
  proxies: string[];
  /** the folders below which file connections may lie */
  files: string[];
  /** the folder in which users' modules lie */
  modules: string;
  /** where connections may lead: patterns of host:port */
  egress: string[];
  /** the most bytes of a file that is dropped onto a page */
  fileLimit: number;
  /** for how long ended runs and what they told are kept */
  keeping: Keeping;
}

function duration(name: string, text: string): string {
  try {
    if (durationSeconds(text) >= 86_400) return text;
  } catch {
    // Said below.
  }
  throw new SettingError(`${name} is ${text}; it must be a duration of a day or more, such as P180D.`);
}

/** @throws SettingError */
function megabytes(name: string, text: string): number {
  if (!/^[1-9]\d{0,6}$/.test(text))
    throw new SettingError(`${name} is ${text}; it must be a whole number of megabytes.`);
  return Number(text) * 1024 * 1024;
}

const listed = (text: string | undefined) => (text ?? "").split(/[\s,]+/).filter(Boolean);

/** A file in the data folder that only its owner may read. */
export function writePrivate(data: string, name: string, text: string): void {
  writeFileSync(join(data, name), text, { mode: 0o600 });
}

/** @throws SettingError */
function publicAddress(text: string | undefined): string | null {
  if (!text) return null;
  if (!/^https?:\/\/[^\s/?#]+\/?$/.test(text))
    throw new SettingError(`UNDERCOAT_ADDRESS is ${text}; it must be an address such as https://undercoat.example.`);
  return text.replace(/\/$/, "");
}

function secretKey(data: string, given: string | undefined): Buffer {
  if (given !== undefined) {
    const key = Buffer.from(given, "base64");
    if (key.length !== 32) throw new SettingError("UNDERCOAT_SECRET_KEY must be the base64 of 32 bytes.");
    return key;
  }
  const file = join(data, "key");
  if (!existsSync(file)) writePrivate(data, "key", randomBytes(32).toString("base64"));
  return Buffer.from(readFileSync(file, "utf8"), "base64");
}

/** The settings of this process, from the environment; makes the data folder and its key on first use. */
export function readSettings(environment: NodeJS.ProcessEnv = process.env): Settings {
  const data = resolve(environment.UNDERCOAT_DATA ?? join(checkout, ".data"));
  try {
    mkdirSync(data, { recursive: true, mode: 0o755 });
  } catch (error) {
    throw new SettingError(
      `The data folder ${data} can't be made: ${(error as NodeJS.ErrnoException).code === "EACCES" ? "a right is missing" : (error as Error).message}.`,
    );
  }
  const port = Number(environment.UNDERCOAT_PORT ?? 4400);
  if (!Number.isInteger(port) || port < 0 || port > 65_535)
    throw new SettingError(`UNDERCOAT_PORT is ${environment.UNDERCOAT_PORT}; it must be a number from 0 to 65535.`);
  return {
    data,
    host: environment.UNDERCOAT_HOST ?? "127.0.0.1",
    port,
    databaseUrl: environment.UNDERCOAT_DATABASE_URL ?? null,
    key: secretKey(data, environment.UNDERCOAT_SECRET_KEY),
    address: publicAddress(environment.UNDERCOAT_ADDRESS),
    hosts: listed(environment.UNDERCOAT_HOSTS).map((name) => name.toLowerCase()),
    proxies: listed(environment.UNDERCOAT_PROXY),
    files: environment.UNDERCOAT_FILES ? environment.UNDERCOAT_FILES.split(":").filter(Boolean) : [join(data, "files")],
    modules: environment.UNDERCOAT_MODULES ?? join(data, "modules"),
    egress: environment.UNDERCOAT_EGRESS === undefined ? ["*"] : listed(environment.UNDERCOAT_EGRESS),
    fileLimit: megabytes("UNDERCOAT_FILE_LIMIT", environment.UNDERCOAT_FILE_LIMIT ?? "2048"),
    keeping: {
      runs: duration("UNDERCOAT_KEEP", environment.UNDERCOAT_KEEP ?? "P180D"),
      lines: duration("UNDERCOAT_KEEP_LINES", environment.UNDERCOAT_KEEP_LINES ?? "P30D"),
    },
  };
}
