import { createHash, timingSafeEqual } from "node:crypto";
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { type FileHandle, mkdir, open, readdir, rename, rmdir, stat, unlink } from "node:fs/promises";
import { join, posix } from "node:path";
import ssh2 from "ssh2";

/** A host of which one folder is reached by SFTP (SSH File Transfer Protocol, version 3). */
export interface Drop {
  port: number;
  /** its key's fingerprint, as OpenSSH prints it */
  fingerprint: string;
  close(): Promise<void>;
}

const { OPEN_MODE, STATUS_CODE } = ssh2.utils.sftp;

interface Options {
  folder: string;
  user: string;
  password: string;
  /** where the host's key is kept, so that it is the same at the next start */
  keyFile: string;
}

const same = (one: string, other: string) =>
  timingSafeEqual(createHash("sha256").update(one).digest(), createHash("sha256").update(other).digest());

function hostKey(file: string): string {
  if (!existsSync(file)) writeFileSync(file, ssh2.utils.generateKeyPairSync("ed25519").private, { mode: 0o600 });
  return readFileSync(file, "utf8");
}

/** What the protocol tells of a file. */
async function attributes(path: string): Promise<ssh2.Attributes> {
  const { mode, uid, gid, size, atimeMs, mtimeMs } = await stat(path);
  return { mode, uid, gid, size, atime: Math.floor(atimeMs / 1000), mtime: Math.floor(mtimeMs / 1000) };
}

/** Serves a folder; no path leads out of it, as all of them begin at its root. */
function serve(sftp: ssh2.SFTPWrapper, folder: string): void {
  const files = new Map<number, FileHandle | { path: string; told: boolean }>();
  let next = 0;
  const seen = (path: string) => posix.normalize(`/${path}`);
  const real = (path: string) => join(folder, seen(path));
  const handle = (held: FileHandle | { path: string; told: boolean }) => {
    files.set(++next, held);
    const name = Buffer.alloc(4);
    name.writeUInt32BE(next);
    return name;
  };
  const held = (name: Buffer) => files.get(name.length === 4 ? name.readUInt32BE() : 0);
  const answer = (id: number, work: () => Promise<void>) =>
    work().catch((error: NodeJS.ErrnoException) =>
      sftp.status(id, error.code === "ENOENT" ? STATUS_CODE.NO_SUCH_FILE : STATUS_CODE.FAILURE),
    );
  const done = (id: number, work: () => Promise<unknown>) =>
    answer(id, async () => {
      await work();
      sftp.status(id, STATUS_CODE.OK);
    });
  sftp.on("REALPATH", (id, path) =>
    sftp.name(id, [{ filename: seen(path), longname: seen(path), attrs: {} as ssh2.Attributes }]),
  );
  const told = (id: number, path: string) => answer(id, async () => sftp.attrs(id, await attributes(real(path))));
  sftp.on("STAT", told);
  sftp.on("LSTAT", told);
  sftp.on("OPENDIR", (id, path) =>
    answer(id, async () => {
      await readdir(real(path));
      sftp.handle(id, handle({ path: real(path), told: false }));
    }),
  );
  sftp.on("READDIR", (id, name) =>
    answer(id, async () => {
      const folderHeld = held(name);
      if (!folderHeld || !("told" in folderHeld) || folderHeld.told) return void sftp.status(id, STATUS_CODE.EOF);
      folderHeld.told = true;
      const names = await readdir(folderHeld.path);
      const listed = await Promise.all(
        names.map(async (filename) => {
          const attrs = await attributes(join(folderHeld.path, filename));
          const kind = (attrs.mode & 0o170000) === 0o040000 ? "d" : "-";
          return { filename, longname: `${kind}rw-r--r-- 1 ferry ferry ${attrs.size} Jan 1 00:00 ${filename}`, attrs };
        }),
      );
      sftp.name(id, listed);
    }),
  );
  sftp.on("OPEN", (id, path, flags) =>
    answer(id, async () => {
      if (flags & (OPEN_MODE.WRITE | OPEN_MODE.APPEND | OPEN_MODE.CREAT))
        return void sftp.status(id, STATUS_CODE.PERMISSION_DENIED);
      sftp.handle(id, handle(await open(real(path), "r")));
    }),
  );
  sftp.on("READ", (id, name, offset, length) =>
    answer(id, async () => {
      const file = held(name);
      if (!file || "told" in file) return void sftp.status(id, STATUS_CODE.FAILURE);
      const { bytesRead, buffer } = await file.read(Buffer.alloc(Math.min(length, 256 * 1024)), 0, undefined, offset);
      if (bytesRead === 0) sftp.status(id, STATUS_CODE.EOF);
      else sftp.data(id, buffer.subarray(0, bytesRead));
    }),
  );
  sftp.on("FSTAT", (id, name) =>
    answer(id, async () => {
      const file = held(name);
      if (!file || "told" in file) return void sftp.status(id, STATUS_CODE.FAILURE);
      const { mode, uid, gid, size, atimeMs, mtimeMs } = await file.stat();
      sftp.attrs(id, { mode, uid, gid, size, atime: Math.floor(atimeMs / 1000), mtime: Math.floor(mtimeMs / 1000) });
    }),
  );
  sftp.on("CLOSE", (id, name) =>
    done(id, async () => {
      const file = held(name);
      files.delete(name.readUInt32BE());
      if (file && !("told" in file)) await file.close();
    }),
  );
  sftp.on("REMOVE", (id, path) => done(id, () => unlink(real(path))));
  sftp.on("RENAME", (id, from, to) => done(id, () => rename(real(from), real(to))));
  sftp.on("MKDIR", (id, path) => done(id, () => mkdir(real(path))));
  sftp.on("RMDIR", (id, path) => done(id, () => rmdir(real(path))));
}

/** Opens the drop on a loopback port, 0 for any. */
export function openDrop({ folder, user, password, keyFile }: Options, port: number): Promise<Drop> {
  const key = hostKey(keyFile);
  const parsed = ssh2.utils.parseKey(key);
  if (parsed instanceof Error) throw parsed;
  const open = new Set<ssh2.Connection>();
  const server = new ssh2.Server({ hostKeys: [key] }, (client) => {
    open.add(client);
    client.on("authentication", (asked) =>
      asked.method === "password" && asked.username === user && same(asked.password, password)
        ? asked.accept()
        : asked.reject(["password"]),
    );
    client.on("ready", () =>
      client.on("session", (accept) =>
        accept().on("sftp", (give) => serve(give() as unknown as ssh2.SFTPWrapper, folder)),
      ),
    );
    client.on("error", () => undefined);
    client.on("close", () => open.delete(client));
  });
  return new Promise((done, fail) => {
    server.once("error", fail);
    server.listen(port, "127.0.0.1", () =>
      done({
        port: (server.address() as { port: number }).port,
        fingerprint: `SHA256:${createHash("sha256").update(parsed.getPublicSSH()).digest("base64").replace(/=+$/, "")}`,
        close: () =>
          new Promise((closed) => {
            for (const client of open) client.end();
            server.close(() => closed());
          }),
      }),
    );
  });
}
