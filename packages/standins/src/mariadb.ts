import { type ChildProcess, spawn } from "node:child_process";
import { createHash, randomBytes } from "node:crypto";
import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { connect, createServer } from "node:net";
import { join, resolve } from "node:path";

/** Debian's MariaDB on loopback, in a folder of its own. */
export interface MariaServer {
  port: number;
  user: string;
  password: string;
  stop(): Promise<void>;
}

const binary = "/usr/sbin/mariadbd";

/** True where the server's package is installed. */
export const hasMariaDb = (): boolean => existsSync(binary);

function freePort(): Promise<number> {
  return new Promise((done, fail) => {
    const server = createServer();
    server.once("error", fail);
    server.listen(0, "127.0.0.1", () => {
      const { port } = server.address() as { port: number };
      server.close(() => done(port));
    });
  });
}

function run(command: string, args: string[]): Promise<void> {
  return new Promise((done, fail) => {
    const child = spawn(command, args, { stdio: ["ignore", "ignore", "pipe"] });
    let said = "";
    child.stderr.on("data", (chunk) => {
      said += chunk;
    });
    child.once("error", fail);
    child.once("exit", (status) =>
      status === 0 ? done() : fail(new Error(`${command} failed: ${said.trim().split("\n").at(-1)}`)),
    );
  });
}

const answers = (port: number): Promise<boolean> =>
  new Promise((done) => {
    const socket = connect({ port, host: "127.0.0.1" });
    // The server greets before anything is asked of it.
    socket.once("data", () => {
      socket.destroy();
      done(true);
    });
    socket.once("error", () => done(false));
    socket.setTimeout(1000, () => {
      socket.destroy();
      done(false);
    });
  });

/** The folder itself, or one below /var/lib where the server's own user can't enter it. */
async function home(wanted: string): Promise<string> {
  mkdirSync(wanted, { recursive: true, mode: 0o755 });
  if (process.getuid?.() !== 0) return wanted;
  const enters = await run("runuser", ["-u", "mysql", "--", "test", "-x", wanted]).then(
    () => true,
    () => false,
  );
  if (enters) return wanted;
  const name = createHash("sha256").update(resolve(wanted)).digest("hex").slice(0, 12);
  const elsewhere = join("/var/lib/undercoat", `mariadb-${name}`);
  mkdirSync(elsewhere, { recursive: true, mode: 0o755 });
  return elsewhere;
}

/**
 * Starts a server in a folder, made first where it is empty; its superuser is `undercoat`, whose password lies beside it.
 * @param tune more options, as on its command line
 * @throws Error where it does not start within a minute
 */
export async function startMariaDb(wanted: string, tune: readonly string[] = []): Promise<MariaServer> {
  const folder = await home(wanted);
  const data = join(folder, "data");
  const secret = join(folder, "password");
  // As root it runs as Debian's own user for it.
  const owner = process.getuid?.() === 0 ? ["--user=mysql"] : [];
  if (!existsSync(join(data, "mysql"))) {
    writeFileSync(secret, randomBytes(18).toString("base64url"), { mode: 0o600 });
    await run("mariadb-install-db", [
      "--no-defaults",
      `--datadir=${data}`,
      "--auth-root-authentication-method=normal",
      "--skip-test-db",
      "--skip-name-resolve",
      ...owner,
    ]);
  }
  const password = readFileSync(secret, "utf8").trim();
  const init = join(data, "undercoat.sql");
  writeFileSync(
    init,
    // One statement a line.
    [
      `CREATE USER IF NOT EXISTS undercoat@'127.0.0.1' IDENTIFIED BY '${password}';`,
      "GRANT ALL ON *.* TO undercoat@'127.0.0.1' WITH GRANT OPTION;",
      "ALTER USER IF EXISTS root@localhost ACCOUNT LOCK;",
      "",
    ].join("\n"),
    { mode: 0o644 },
  );
  const port = await freePort();
  const child: ChildProcess = spawn(
    binary,
    [
      "--no-defaults",
      `--datadir=${data}`,
      `--port=${port}`,
      "--bind-address=127.0.0.1",
      `--socket=${join(data, "socket")}`,
      "--skip-name-resolve",
      "--character-set-server=utf8mb4",
      `--init-file=${init}`,
      ...owner,
      ...tune,
    ],
    { stdio: ["ignore", "ignore", "pipe"], detached: true },
  );
  let said = "";
  child.stderr?.on("data", (chunk) => {
    said = `${said}${chunk}`.slice(-4000);
  });
  const ended = new Promise<void>((done) => child.once("exit", () => done()));
  const end = () => child.kill("SIGTERM");
  process.once("exit", end);
  let gone = false;
  ended.then(() => {
    process.off("exit", end);
    gone = true;
  });
  for (let tries = 0; !(await answers(port)); tries++) {
    if (gone || tries > 300) {
      child.kill("SIGKILL");
      throw new Error(`MariaDB did not start: ${said.trim().split("\n").slice(-3).join(" ")}`);
    }
    await new Promise((wake) => setTimeout(wake, 200));
  }
  return {
    port,
    user: "undercoat",
    password,
    async stop() {
      child.kill("SIGTERM");
      await ended;
    },
  };
}
