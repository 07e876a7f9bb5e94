import vm from "node:vm";

/**
 * Runs a user's module in a process that has nothing: no environment, no files, no other processes, and no network where the
 * system can take it away. It is sent as text and stands alone. What crosses the border between the module and this process
 * are texts; the module sees no object of this realm, from which it could reach further.
 */

const most = { log: 2000, batch: 500, text: 4_000_000 };

/** What the module's own realm begins with: its `fetch`, its log, and how its records are written. `send` and `receive` carry texts. */
const prelude = `(send) => {
  "use strict";
  const { parse, stringify } = JSON;
  const written = (value, depth = 0) => {
    if (depth > 100) throw new TypeError("a record is nested more than 100 deep");
    if (value === null || value === undefined) return "null";
    switch (typeof value) {
      case "bigint": return value.toString();
      case "number": return Number.isFinite(value) ? String(value) : stringify(String(value));
      case "boolean": return String(value);
      case "string": return stringify(value);
      case "object": break;
      default: throw new TypeError("a record holds a " + typeof value);
    }
    if (value instanceof Date) return stringify(value.toISOString());
    if (Array.isArray(value)) return "[" + value.map((one) => written(one, depth + 1)).join(",") + "]";
    return "{" + Object.entries(value).filter(([, one]) => one !== undefined).map(([name, one]) => stringify(name) + ":" + written(one, depth + 1)).join(",") + "}";
  };
  let count = 0;
  const waiting = new Map();
  const signal = { aborted: false };
  const ask = (kind, rest) => new Promise((resolve, reject) => {
    const id = ++count;
    waiting.set(id, { resolve, reject });
    send(stringify({ kind, id, ...rest }));
  });
  const fetch = async (address, { method = "GET", headers = {}, body } = {}) => {
    const answer = await ask("fetch", { address: String(address), method, headers: Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, String(value)])), body: body === undefined ? null : String(body) });
    const told = new Map(Object.entries(answer.headers));
    return { status: answer.status, ok: answer.status >= 200 && answer.status < 300, headers: { get: (name) => told.get(String(name).toLowerCase()) ?? null }, text: async () => answer.body, json: async () => parse(answer.body) };
  };
  const log = (...words) => send(stringify({ kind: "log", text: words.map((one) => typeof one === "string" ? one : written(one)).join(" ").slice(0, ${most.log}) }));
  const words = (error) => error instanceof Error ? error.name + ": " + error.message : String(error);
  const call = async (module, order) => {
    if (order.call === "describe") {
      if (typeof module.describe !== "function") throw new TypeError("it exports no function describe");
      return send(stringify({ kind: "described", value: written(await module.describe(order.settings)) }));
    }
    if (typeof module.read !== "function") throw new TypeError("it exports no function read");
    const reading = module.read({ dataset: order.dataset, since: order.since, from: order.from, to: order.to, settings: order.settings, fetch, log, signal });
    let batch = [];
    let size = 0;
    const give = async () => {
      const records = batch;
      batch = [];
      size = 0;
      await ask("records", { records });
    };
    for await (const given of reading)
      for (const record of Array.isArray(given) ? given : [given]) {
        if (typeof record !== "object" || record === null) throw new TypeError("read gives what is no record: " + String(record).slice(0, 50));
        const text = written(record);
        size += text.length;
        if (text.length > ${most.text}) throw new RangeError("a record is longer than 4 MB");
        batch.push(text);
        if (batch.length >= ${most.batch} || size > ${most.text}) await give();
      }
    if (batch.length) await give();
    send(stringify({ kind: "done" }));
  };
  return {
    start: (module, text) => { call(module, parse(text)).catch((error) => send(stringify({ kind: "failed", words: words(error) }))); },
    receive: (text) => {
      const { id, error, ...answer } = parse(text);
      const one = waiting.get(id);
      waiting.delete(id);
      if (error !== undefined) one?.reject(new Error(error));
      else one?.resolve(answer);
    },
    words,
  };
}`;

interface Prelude {
  start(module: object, order: string): void;
  receive(text: string): void;
  words(error: unknown): string;
}

const send = (text: string): void => {
  process.send?.(text);
};

/** The module's own realm; code can't be made of texts in it but by the module itself, and nothing can be imported. */
const context = vm.createContext(Object.create(null), { codeGeneration: { strings: false, wasm: false } });
const inside = (vm.runInContext(prelude, context) as (send: (text: string) => void) => Prelude)(send);

async function start(code: string, order: string): Promise<void> {
  const module = new vm.SourceTextModule(code, { context, identifier: "the module" });
  await module.link((wanted: string) => {
    throw new Error(`it imports ${wanted}, and a module stands alone`);
  });
  await module.evaluate();
  inside.start(module.namespace, order);
}

process.on("message", (text: string) => {
  if (text[0] !== "!") return inside.receive(text);
  const { code, order } = JSON.parse(text.slice(1)) as { code: string; order: string };
  start(code, order).catch((error: unknown) =>
    send(JSON.stringify({ kind: "failed", words: String((error as Error)?.message ?? error).slice(0, 1000) })),
  );
});
process.on("unhandledRejection", (error) =>
  send(
    JSON.stringify({
      kind: "failed",
      words: `a promise was rejected that nobody waited for: ${String((error as Error)?.message ?? error).slice(0, 500)}`,
    }),
  ),
);
process.on("uncaughtException", (error) =>
  send(JSON.stringify({ kind: "failed", words: `it threw: ${String(error?.message ?? error).slice(0, 500)}` })),
);
process.on("disconnect", () => process.exit(0));
