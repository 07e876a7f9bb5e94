import { type ChildProcess, execFile, spawn } from "node:child_process";
import { readFile } from "node:fs/promises";
import { fileURLToPath } from "node:url";
import { promisify } from "node:util";
import type { ModuleSettings } from "@undercoat/core/pipeline/pipeline";
import { Cancelled, LoadFailure } from "../../failure.ts";
import type { HttpClient } from "../../http/client.ts";

/** What a module is asked. */
export interface Order {
  call: "describe" | "read";
  settings: ModuleSettings["settings"];
  dataset?: string;
  /** from when on what changed is wanted; null for everything */
  since?: string | null;
  from?: string | null;
  to?: string | null;
}

/** What a module runs with. */
export interface ModuleHost {
  name: string;
  /** its text, as JavaScript */
  code: string;
  /** the most seconds it may take, and megabytes it may hold */
  seconds: number;
  megabytes: number;
  /** asks for it, where it may */
  client: HttpClient;
  /** true for an address that its connection names */
  allows(address: URL): boolean;
  log(text: string): void;
  signal?: AbortSignal;
}

type Message =
  | { kind: "log"; text: string }
  | { kind: "fetch"; id: number; address: string; method: string; headers: Record<string, string>; body: string | null }
  | { kind: "described"; value: string }
  | { kind: "records"; id: number; records: string[] }
  | { kind: "done" }
  | { kind: "failed"; words: string };

/** How often a module's memory is looked at, in milliseconds. */
const lookEvery = 250;
/** What a process of Node's holds by itself, in megabytes. */
const ownSize = 90;
/** So many lines of its log are told. */
const mostLines = 500;

let runner: Promise<string> | null = null;
let apart: Promise<readonly string[]> | null = null;

/** The runner as JavaScript that stands alone. */
const runnerCode = () => {
  runner ??= readFile(fileURLToPath(new URL("runner.ts", import.meta.url)), "utf8").then(javascript);
  return runner;
};

/** What a process is begun with so that it has no network, where the system lets it: a network of its own that leads nowhere. */
const withoutNetwork = () => {
  apart ??= promisify(execFile)("unshare", ["-rn", "true"]).then(
    () => ["unshare", "-rn"],
    () => [],
  );
  return apart;
};

/** TypeScript, or JavaScript, as JavaScript. @throws LoadFailure where it can't be read */
export async function javascript(text: string): Promise<string> {
  const { transform } = await import("esbuild");
  try {
    return (await transform(text, { loader: "ts", format: "esm", target: "node20" })).code;
  } catch (error) {
    const [first] = (error as { errors?: { text: string; location: { line: number } | null }[] }).errors ?? [];
    throw new LoadFailure({
      message: `The module can't be read: ${first?.text ?? (error as Error).message}`,
      ...(first?.location ? { detail: `line ${first.location.line}` } : {}),
    });
  }
}

/**
 * Asks a module something in a process of its own, and gives what it answers as it comes: the description, or records in
 * batches, the next of which is not made before the last has been taken.
 * @throws LoadFailure with its message where it fails, ends by itself, or takes more than it may; Cancelled
 */
export async function* asked(
  host: ModuleHost,
  order: Order,
): AsyncGenerator<{ described: string } | { records: string[] }> {
  const { name, signal } = host;
  signal?.throwIfAborted();
  const before = await withoutNetwork();
  const line = [
    ...before,
    process.execPath,
    "--experimental-permission",
    "--experimental-vm-modules",
    "--disallow-code-generation-from-strings",
    `--max-old-space-size=${host.megabytes}`,
    "--no-warnings",
    "--input-type=module",
    "-e",
    await runnerCode(),
  ];
  const child = spawn(line[0] ?? "", line.slice(1), {
    env: {},
    cwd: "/",
    stdio: ["ignore", "ignore", "pipe", "ipc"],
  });
  const inbox: Message[] = [];
  let wake: () => void = () => undefined;
  let ended: LoadFailure | Cancelled | null = null;
  const end = (why: LoadFailure | Cancelled) => {
    ended ??= why;
    child.kill("SIGKILL");
    wake();
  };
  let said = "";
  child.stderr?.on("data", (part) => {
    said = (said + part).slice(-2000);
  });
  child.on("message", (text) => {
    try {
      inbox.push(read(String(text)));
      wake();
    } catch {
      end(new LoadFailure({ message: `${name} says what is not understood` }));
    }
  });
  child.on("error", (error) => end(new LoadFailure({ message: `${name} can't be started: ${error.message}` })));
  child.on("exit", () =>
    end(
      new LoadFailure({
        message: /heap out of memory/i.test(said)
          ? `${name} took more than the ${host.megabytes} MB that it may`
          : `${name} ended in the middle of its work`,
        ...(said.trim() && !/heap out of memory/i.test(said) ? { detail: said.trim().split("\n").at(-1) ?? "" } : {}),
      }),
    ),
  );
  const late = setTimeout(
    () =>
      end(
        new LoadFailure({
          message: `${name} took longer than the ${host.seconds} s that it may`,
          hint: "Give it more (seconds), or let it read less at once.",
        }),
      ),
    host.seconds * 1000,
  );
  const look = setInterval(async () => {
    const held = await sizeOf(child);
    if (held > host.megabytes + ownSize)
      end(new LoadFailure({ message: `${name} took more than the ${host.megabytes} MB that it may` }));
  }, lookEvery);
  const stop = () => end(new Cancelled("Cancelled"));
  signal?.addEventListener("abort", stop);
  let lines = 0;
  try {
    child.send(`!${JSON.stringify({ code: host.code, order: JSON.stringify(order) })}`);
    for (;;) {
      const message = inbox.shift();
      if (!message) {
        if (ended) throw ended;
        await new Promise<void>((done) => {
          wake = done;
        });
        continue;
      }
      switch (message.kind) {
        case "log":
          if (++lines <= mostLines) host.log(message.text);
          break;
        case "fetch":
          void fetchFor(host, message).then((answer) => child.connected && child.send(JSON.stringify(answer)));
          break;
        case "described":
          yield { described: message.value };
          return;
        case "records":
          yield { records: message.records };
          if (child.connected) child.send(JSON.stringify({ id: message.id }));
          break;
        case "done":
          return;
        case "failed":
          throw new LoadFailure({ message: `${name} failed: ${message.words}` });
      }
    }
  } finally {
    clearTimeout(late);
    clearInterval(look);
    signal?.removeEventListener("abort", stop);
    child.removeAllListeners("exit");
    child.kill("SIGKILL");
  }
}

/** A message, whoever may have written it. @throws where it is none */
function read(text: string): Message {
  const message = JSON.parse(text) as Message;
  const isText = (value: unknown) => typeof value === "string";
  const fits: Record<Message["kind"], () => boolean> = {
    log: () => isText((message as { text: unknown }).text),
    fetch: () => {
      const { address, method, headers, body } = message as Extract<Message, { kind: "fetch" }>;
      return (
        isText(address) && isText(method) && Object.values(headers).every(isText) && (body === null || isText(body))
      );
    },
    described: () => isText((message as { value: unknown }).value),
    records: () => (message as Extract<Message, { kind: "records" }>).records.every(isText),
    done: () => true,
    failed: () => isText((message as { words: unknown }).words),
  };
  if (!fits[message.kind]()) throw new TypeError("It is no message");
  return message;
}

/** What a process holds, in megabytes. */
async function sizeOf({ pid }: ChildProcess): Promise<number> {
  const told = await readFile(`/proc/${pid}/statm`, "utf8").catch(() => "0 0");
  return (Number(told.split(" ")[1] ?? 0) * 4096) / 1024 / 1024;
}

/** Asks for a module what it may ask, with the limits and the list of places that hold for every connection. */
async function fetchFor(
  { name, client, allows, signal }: ModuleHost,
  { id, address, method, headers, body }: Extract<Message, { kind: "fetch" }>,
): Promise<object> {
  try {
    if (!URL.canParse(address) || !allows(new URL(address)))
      throw new LoadFailure({ message: `${address.slice(0, 200)} is at no host that ${name} names` });
    const answer = await client.ask({
      address,
      method: method === "POST" ? "POST" : "GET",
      accept: "*/*",
      headers,
      ...(body === null ? {} : { json: body }),
      patient: true,
      within: allows,
      signal,
    });
    return { id, status: answer.status, headers: answer.headers, body: answer.body.toString("utf8") };
  } catch (error) {
    return { id, error: error instanceof LoadFailure ? error.failure.message : String((error as Error).message) };
  }
}
