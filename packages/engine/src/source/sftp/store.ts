import { createHash } from "node:crypto";
import { once } from "node:events";
import { posix } from "node:path";
import { PassThrough, type Readable } from "node:stream";
import picomatch from "picomatch";
import type SftpClient from "ssh2-sftp-client";
import type { CredentialsOf } from "../../connection/credentials.ts";
import { Cancelled, LoadFailure } from "../../failure.ts";
import { allowed } from "../../http/egress.ts";
import { type FileStore, type FoundFile, isUnfinished } from "../files/store.ts";

/** Folders below the connection's that are gone into, one in another. */
const deepest = 20;

/** The fingerprint by which a host's key is known: `SHA256:` and the digest, as OpenSSH prints it. */
const fingerprintOf = (key: Buffer): string =>
  `SHA256:${createHash("sha256").update(key).digest("base64").replace(/=+$/, "")}`;

/** A host whose key is not the one that was accepted, or none was accepted yet. */
export class HostKeyRefused extends LoadFailure {
  /** at first contact it can be accepted; another one than before only by who states it */
  readonly offer: { setting: string; value: string } | undefined;

  constructor(name: string, fingerprint: string, accepted: string | undefined) {
    super(
      accepted === undefined
        ? {
            message: `${name} shows a host key that nobody has accepted yet: ${fingerprint}`,
            hint: `Compare it with the one that the host's people tell you, then state hostKey: "${fingerprint}".`,
          }
        : {
            message: `${name} shows another host key than the one that was accepted: ${fingerprint}`,
            detail: `Accepted was ${accepted}.`,
            hint: "Somebody may stand between. Ask the host's people before you accept another key.",
          },
    );
    this.offer = accepted === undefined ? { setting: "hostKey", value: fingerprint } : undefined;
  }
}

/** A folder of a host that is reached by SFTP (SSH File Transfer Protocol, version 3). */
export class SftpStore implements FileStore {
  readonly folder = null;

  private constructor(
    private readonly client: SftpClient,
    private readonly credentials: CredentialsOf<"sftp">,
    private readonly root: string,
    private readonly signal: AbortSignal | undefined,
  ) {}

  /** Signs in. @throws LoadFailure, HostKeyRefused */
  static async open(credentials: CredentialsOf<"sftp">, signal?: AbortSignal): Promise<SftpStore> {
    signal?.throwIfAborted();
    const { settings, password, name } = credentials;
    // Only who reads such a source holds its driver.
    const { default: Client } = await import("ssh2-sftp-client");
    const client = new Client("undercoat", {
      // What cuts the connection is told to whoever reads.
      error: () => undefined,
      end: () => undefined,
      close: () => undefined,
    });
    let refused: HostKeyRefused | null = null;
    try {
      await allowed(settings);
      await client.connect({
        host: settings.host,
        port: settings.port,
        username: settings.user,
        ...(password.includes("PRIVATE KEY-----") ? { privateKey: password } : { password }),
        readyTimeout: 10_000,
        keepaliveInterval: 10_000,
        keepaliveCountMax: 3,
        hostVerifier: (key: Buffer) => {
          const fingerprint = fingerprintOf(key);
          if (fingerprint === settings.hostKey) return true;
          refused = new HostKeyRefused(name, fingerprint, settings.hostKey);
          return false;
        },
      });
      const root = await client.realPath(settings.path).catch(() => "");
      if (!root || (await client.exists(root)) !== "d")
        throw new LoadFailure({
          message: `${name} has no folder ${settings.path}`,
          hint: "Check the path; it is the one that this user sees.",
        });
      return new SftpStore(client, credentials, root, signal);
    } catch (error) {
      await client.end().catch(() => undefined);
      throw refused ?? explained(error, credentials, signal);
    }
  }

  get identity(): string {
    // A host is who has its key, wherever it listens.
    return `files in ${this.root} of ${this.credentials.settings.hostKey}`;
  }

  /** Links are none of its files: where they lead can't be told from here. */
  async find(pattern: string): Promise<FoundFile[]> {
    const found: FoundFile[] = [];
    const fits = picomatch(pattern);
    // Only folders below what stands before the first sign of a pattern can hold a file that fits.
    const { base } = picomatch.scan(pattern);
    const start = /[*?[{(]/.test(pattern) ? base.replace(/\/$/, "") : posix.dirname(pattern);
    const walk = async (folder: string, depth: number): Promise<void> => {
      if (depth > deepest) return;
      for (const entry of await this.client.list(posix.join(this.root, folder))) {
        const name = folder ? `${folder}/${entry.name}` : entry.name;
        if (entry.name.startsWith(".")) continue;
        if (entry.type === "d") await walk(name, depth + 1);
        if (entry.type !== "-" || isUnfinished(name) || !(name === pattern || fits(name))) continue;
        found.push(this.fileOf(name, entry.size, entry.modifyTime));
      }
    };
    try {
      const from = start === "." ? "" : start;
      if (from === "" || (await this.client.exists(posix.join(this.root, from))) === "d") await walk(from, 0);
    } catch (error) {
      throw explained(error, this.credentials, this.signal);
    }
    return found.sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  private fileOf(name: string, bytes: number, changed: number): FoundFile {
    return {
      name,
      path: null,
      bytes,
      changed: new Date(changed).toISOString(),
      mark: `${bytes} ${changed}`,
      open: () => this.read(name),
    };
  }

  private read(name: string): Readable {
    const through = new PassThrough();
    const bytes = this.client.createReadStream(posix.join(this.root, name));
    const { credentials, signal } = this;
    const cut = (error: unknown) => through.destroy(explained(error, credentials, signal) as Error);
    bytes.on("error", cut);
    const ended = () => cut(Object.assign(new Error("closed"), { code: "ECONNRESET" }));
    this.client.on("close", ended);
    through.once("close", () => {
      this.client.removeListener("close", ended);
      (bytes as unknown as Readable).destroy();
    });
    bytes.pipe(through);
    return through;
  }

  async markOf({ name }: FoundFile): Promise<string | null> {
    try {
      const { size, modifyTime } = await this.client.stat(posix.join(this.root, name));
      return `${size} ${modifyTime}`;
    } catch (error) {
      if (/no such file/i.test((error as Error).message)) return null;
      throw explained(error, this.credentials, this.signal);
    }
  }

  async remove({ name }: FoundFile): Promise<void> {
    await this.client.delete(posix.join(this.root, name)).catch((error: unknown) => {
      throw explained(error, this.credentials, this.signal);
    });
  }

  async move({ name }: FoundFile, to: string): Promise<void> {
    const target = posix.join(this.root, to);
    try {
      if ((await this.client.exists(posix.dirname(target))) !== "d")
        await this.client.mkdir(posix.dirname(target), true);
      await this.client.rename(posix.join(this.root, name), target);
    } catch (error) {
      throw explained(error, this.credentials, this.signal);
    }
  }

  async close(): Promise<void> {
    const ended = this.client.end().catch(() => undefined);
    await Promise.race([ended, once(AbortSignal.timeout(2000), "abort")]);
  }
}

/** An error of the protocol's in words. */
function explained(error: unknown, { name, settings }: CredentialsOf<"sftp">, signal?: AbortSignal): unknown {
  if (signal?.aborted) return new Cancelled("Cancelled");
  if (error instanceof LoadFailure || !(error instanceof Error)) return error;
  const { message } = error;
  const code = (error as { code?: string }).code ?? "";
  if (/authentication/i.test(message))
    return new LoadFailure({
      message: `${name} did not sign in ${settings.user}`,
      detail: message,
      hint: "Check the user, and the password or the private key.",
    });
  if (/permission denied/i.test(message))
    return new LoadFailure({ message: `${name}: ${settings.user} may not do that there`, detail: message });
  if (/ECONNREFUSED/.test(code + message))
    return new LoadFailure({
      message: `Nothing answers at ${settings.host}:${settings.port}`,
      hint: "Check the port, and that the server runs and listens on that address.",
    });
  if (/ENOTFOUND|EAI_AGAIN/.test(code + message))
    return new LoadFailure({ message: `The host name ${settings.host} is not known`, hint: "Check its spelling." });
  if (/timed out|timeout/i.test(message))
    return new LoadFailure({ message: `${settings.host}:${settings.port} did not answer in time` });
  if (/ECONNRESET|ERR_NOT_CONNECTED|closed|not connected|end event|no sftp connection/i.test(code + message))
    return new LoadFailure({
      message: `${name} closed the connection`,
      detail: message,
      hint: "Nothing was written; run again.",
    });
  return new LoadFailure({ message: `${name}: ${message}` });
}
