import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { connect } from "node:net";
import { tmpdir, userInfo } from "node:os";
import { join } from "node:path";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { freePort } from "@undercoat/server/cluster/cluster";

/** Debian's OpenSSH server on a loopback port, with a folder, a host key and a user's key of its own. */
export interface Sshd {
  /** the folder that the connection sees */
  folder: string;
  credentials: CredentialsOf<"sftp">;
  /** ends every session that is open */
  cut(): void;
  /** another host key from now on */
  rekey(): Promise<void>;
  close(): Promise<void>;
}

const answers = (port: number) =>
  new Promise<boolean>((done) => {
    const socket = connect({ port, host: "127.0.0.1" });
    socket.once("data", () => {
      socket.destroy();
      done(true);
    });
    socket.once("error", () => done(false));
  });

export async function makeSshd(): Promise<Sshd> {
  const home = mkdtempSync(join(tmpdir(), "undercoat-sshd-"));
  const folder = join(home, "drop");
  mkdirSync(folder);
  const key = (name: string, force = false) => {
    const path = join(home, name);
    if (force) for (const file of [path, `${path}.pub`]) rmSync(file, { force: true });
    execFileSync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", path]);
    return path;
  };
  key("host");
  const own = key("user");
  writeFileSync(join(home, "authorized"), readFileSync(`${own}.pub`));
  const port = await freePort();
  // As root it wants a folder of its own for the part that talks to strangers.
  if (process.getuid?.() === 0) mkdirSync("/run/sshd", { recursive: true });
  const config = join(home, "config");
  writeFileSync(
    config,
    [
      `Port ${port}`,
      "ListenAddress 127.0.0.1",
      `HostKey ${join(home, "host")}`,
      `AuthorizedKeysFile ${join(home, "authorized")}`,
      `PidFile ${join(home, "pid")}`,
      "PasswordAuthentication no",
      "KbdInteractiveAuthentication no",
      "PermitRootLogin prohibit-password",
      "StrictModes no",
      "UsePAM no",
      "Subsystem sftp internal-sftp",
      "ForceCommand internal-sftp",
      "",
    ].join("\n"),
  );
  let child: ChildProcess;
  const start = async () => {
    child = spawn("/usr/sbin/sshd", ["-D", "-e", "-f", config], { stdio: ["ignore", "ignore", "pipe"] });
    for (let tries = 0; !(await answers(port)); tries++) {
      if (tries > 100) throw new Error(`sshd did not start: ${child.stderr?.read()}`);
      await new Promise((wake) => setTimeout(wake, 50));
    }
  };
  const stop = () =>
    new Promise<void>((done) => {
      child.once("exit", () => done());
      child.kill();
    });
  await start();
  const fingerprint = () =>
    execFileSync("ssh-keygen", ["-lf", `${join(home, "host")}.pub`], { encoding: "utf8" }).split(" ")[1] ?? "";
  return {
    folder,
    credentials: {
      name: "drop",
      settings: {
        kind: "sftp",
        host: "127.0.0.1",
        port,
        user: userInfo().username,
        hostKey: fingerprint(),
        path: folder,
      },
      password: readFileSync(own, "utf8"),
    },
    cut() {
      for (const pid of readdirSync("/proc").map(Number).filter(Boolean)) {
        try {
          // What follows the name in brackets: its state, then whose child it is.
          const [, parent] = readFileSync(`/proc/${pid}/stat`, "utf8").split(") ")[1]?.split(" ") ?? [];
          if (Number(parent) === child.pid) process.kill(pid, "SIGKILL");
        } catch {
          // Gone meanwhile.
        }
      }
    },
    async rekey() {
      await stop();
      key("host", true);
      await start();
    },
    async close() {
      await stop();
      rmSync(home, { recursive: true, force: true });
    },
  };
}
