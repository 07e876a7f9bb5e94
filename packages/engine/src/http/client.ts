import { createWriteStream } from "node:fs";
import { pipeline, type Transform } from "node:stream";
import { pipeline as write } from "node:stream/promises";
import { setTimeout as pause } from "node:timers/promises";
import { createBrotliDecompress, createGunzip, createInflate } from "node:zlib";
import { allowance, growingWait, retryAfter } from "@undercoat/core/http/wait";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { AskedRequest, RequestsLeft } from "@undercoat/core/run/run";
import { type Dispatcher, request } from "undici";
import type { WebCredentials } from "../connection/credentials.ts";
import { LoadFailure } from "../failure.ts";
import { hold, ownLeft, waitFor } from "./pace.ts";
import { agent, destination, reach } from "./reach.ts";
import { bearerOf, dropToken } from "./token.ts";

/** An answer with its body as bytes, unpacked. */
export interface Answer {
  status: number;
  headers: Record<string, string | undefined>;
  /** where it came from, after redirects */
  address: string;
  body: Buffer;
  /** how much came, where it is not held */
  bytes?: number;
}

/** What becomes of an answer's body. */
type Taking = (
  response: Dispatcher.ResponseData,
  headers: Record<string, string | undefined>,
  at: URL,
) => Promise<Buffer | number>;

export interface HttpRequest {
  address: string;
  accept?: string;
  /** more headers */
  headers?: Record<string, string>;
  method?: "GET" | "POST" | "PUT" | "PATCH";
  /** true for an address that may be asked; a redirect leads nowhere else */
  within?(address: URL): boolean;
  /** what is sent, as JSON */
  json?: string;
  /** true where it is worth waiting for: what fails is tried again for minutes, not for a moment */
  patient?: boolean;
  /** true for what must not be done twice: it is sent again only where it was told to be too soon */
  once?: boolean;
  signal?: AbortSignal;
  /** told when a request has ended, and while one waits for its turn or before it is tried again */
  told?: (asked: AskedRequest) => void;
  /** told after each answer how many requests more there may be */
  left?: (left: RequestsLeft) => void;
  waiting?: (why: string | null) => void;
}

/** What was asked may have been done or not: it was sent, and no answer says so. */
export class Unanswered extends LoadFailure {}

/** An application said no, by a status. */
export class Refused extends LoadFailure {
  constructor(
    readonly status: number,
    failure: LoadFailure["failure"],
  ) {
    super(failure);
  }
}

/** How much of an answer is taken, in bytes as unpacked: a page that is longer is none. */
const longestAnswer = 64 * 1024 * 1024;
const mostTries = { patient: 7, quick: 2 };
const mostRedirects = 5;
/** No answer may take longer than this to come whole, and no file, in milliseconds. */
const longestAnswering = { answer: 10 * 60_000, file: 6 * 3_600_000 };
/** No application is waited for longer than this, in milliseconds. */
const longestWait = 15 * 60_000;

const unpackers: Record<string, () => NodeJS.ReadWriteStream> = {
  gzip: createGunzip,
  "x-gzip": createGunzip,
  deflate: createInflate,
  br: createBrotliDecompress,
};

/** An address without what could be secret in it: a user, and values of parameters that are named like secrets. */
export function shownAddress(address: string): string {
  const url = new URL(address);
  url.username = "";
  url.password = "";
  for (const name of [...url.searchParams.keys()])
    if (/(key|token|secret|password|signature|sig)$/i.test(name)) url.searchParams.set(name, "…");
  const plain: Record<string, string> = {
    "+": " ",
    "%24": "$",
    "%28": "(",
    "%29": ")",
    "%2C": ",",
    "%3A": ":",
    "%3D": "=",
    "%20": " ",
  };
  return url.href
    .replace(/\+|%(?:24|28|29|2C|3A|3D|20)/g, (coded) => plain[coded] ?? coded)
    .replaceAll("%E2%80%A6", "…");
}

/** An application as it is asked: signed in, politely, and again where it stumbles. */
export class HttpClient {
  constructor(private readonly credentials: WebCredentials) {}

  get base(): string {
    return this.credentials.settings.url;
  }

  /** The address of a path below the connection's. */
  address(path: string): string {
    return `${this.base.replace(/\/+$/, "")}${path.startsWith("/") ? path : `/${path}`}`;
  }

  /** The address of what a load reads, with its parameters. */
  addressOf({ path = "/", parameters = {} }: Pick<From, "path" | "parameters">): string {
    const url = new URL(this.address(path));
    for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
    return url.href;
  }

  /**
   * Asks until there is an answer that says yes: waits as it is told to, tries again what fails for a while, renews a token
   * that has ended.
   * @throws LoadFailure where the answer is no, or none comes
   */
  ask(asked: HttpRequest): Promise<Answer> {
    return this.until(asked, bodyOf, longestAnswering.answer);
  }

  /** Asks as `ask` does, and writes what comes to a file, which may be larger than an answer that is held. Packed by its own form it stays so. */
  async save(asked: HttpRequest, path: string): Promise<void> {
    await this.until(
      asked,
      (response, headers, at) => {
        if (response.statusCode >= 300) return bodyOf(response, headers, at);
        return fileOf(response, headers, at, path);
      },
      longestAnswering.file,
    );
  }

  private async until(asked: HttpRequest, take: Taking, answering: number): Promise<Answer> {
    const { name, settings } = this.credentials;
    const started = performance.now();
    let renewed = false;
    let waited = 0;
    const most = mostTries[asked.patient ? "patient" : "quick"];
    for (let tries = 1; ; tries++) {
      const tell = (status: number | null, bytes: number) =>
        asked.told?.({
          method: asked.method ?? "GET",
          address: shownAddress(asked.address),
          status,
          milliseconds: Math.round(performance.now() - started),
          bytes,
          tries,
        });
      await waitFor(name, settings.limits, asked);
      let answer: Answer;
      try {
        const late = AbortSignal.timeout(answering);
        const signal = asked.signal ? AbortSignal.any([asked.signal, late]) : late;
        answer = await this.once({ ...asked, signal }, take);
      } catch (error) {
        asked.signal?.throwIfAborted();
        const known = error instanceof LoadFailure;
        if (known || tries >= most || asked.once || !passes(error)) {
          tell(null, 0);
          throw known ? error : unreached(name, asked.address, error, tries);
        }
        await this.wait(growingWait(tries - 1, Math.random()), `${name} does not answer`, asked);
        continue;
      }
      const { status, headers, body } = answer;
      asked.left?.(leftOf(name, settings.limits, headers));
      if (status >= 200 && status < 300) {
        tell(status, answer.bytes ?? body.length);
        const rest = allowance(headers, Date.now());
        if (rest?.left === 0 && rest.resets) hold(name, Date.now() + Math.min(rest.resets, longestWait));
        return answer;
      }
      if (status === 401 && settings.auth?.oauth && !renewed) {
        renewed = true;
        dropToken(this.credentials);
        continue;
      }
      const again = status === 429 || status === 425 || (!asked.once && (status === 408 || status >= 500));
      const told = retryAfter(headers["retry-after"], Date.now()) ?? allowance(headers, Date.now())?.resets ?? null;
      // Who says when to come again is believed, as long as that is not for ever.
      const bidden = asked.patient && again && told !== null && waited < longestWait;
      if (!again || (tries >= most && !bidden)) {
        tell(status, body.length);
        throw refused(name, asked.address, answer, tries);
      }
      if (told !== null && told > longestWait) {
        tell(status, body.length);
        throw new LoadFailure({
          message: `${name} asks to wait ${Math.round(told / 60_000)} minutes before it is asked again`,
          hint: "Nothing was written; let the load run less often, or run it later.",
        });
      }
      const wait = told ?? growingWait(Math.min(tries, mostTries.patient) - 1, Math.random());
      waited += wait;
      await this.wait(wait, status === 429 ? `${name} asks for fewer requests` : `${name} answered ${status}`, asked);
    }
  }

  private async wait(milliseconds: number, why: string, { waiting, signal }: HttpRequest): Promise<void> {
    if (milliseconds > 1000) waiting?.(`${why}; waiting ${Math.ceil(milliseconds / 1000)} s`);
    try {
      await pause(milliseconds, undefined, { signal });
    } finally {
      waiting?.(null);
    }
  }

  /** One request with the redirects that it is led through; what it signs in with goes to its own host alone. */
  private async once(
    { address, accept = "application/json", headers: more = {}, method = "GET", json, signal, within }: HttpRequest,
    take: Taking,
  ): Promise<Answer> {
    const origin = new URL(this.base).origin;
    let at = new URL(address);
    // A plus is a space to those alone who read a query as a form.
    at.search = at.search.replaceAll("+", "%20");
    for (let led = 0; ; led++) {
      if (within && !within(at))
        throw new LoadFailure({ message: `${shownAddress(address)} leads to ${at.host}, which may not be asked` });
      if (!/^https?:$/.test(at.protocol))
        throw new LoadFailure({ message: `${at.protocol} is no address that is asked` });
      await reach(destination(at));
      const own = at.origin === origin;
      const response = await request(at, {
        dispatcher: agent,
        method,
        signal,
        body: json,
        headers: {
          accept,
          "accept-encoding": "gzip, deflate, br",
          "user-agent": "undercoat",
          // What was said for one host is not said to another.
          ...(at.origin === new URL(address).origin ? more : {}),
          ...(json === undefined ? {} : { "content-type": "application/json" }),
          ...(own ? await signedIn(this.credentials) : {}),
        },
      });
      const headers = headersOf(response.headers);
      const to = headers.location;
      if (response.statusCode >= 300 && response.statusCode < 400 && to !== undefined && method === "GET") {
        await response.body.dump();
        if (led >= mostRedirects)
          throw new LoadFailure({
            message: `${address} leads round in a circle: more than ${mostRedirects} redirects`,
          });
        at = new URL(to, at);
        continue;
      }
      const taken = await take(response, headers, at).catch((error: unknown) => {
        // What was sent has arrived, whatever is wrong with the answer.
        throw error instanceof LoadFailure ? new Unanswered(error.failure) : error;
      });
      const told = { status: response.statusCode, headers, address: at.href };
      return typeof taken === "number" ? { ...told, body: Buffer.alloc(0), bytes: taken } : { ...told, body: taken };
    }
  }
}

/** How many requests more there may be, by what was answered and by the connection's own limits. */
function leftOf(name: string, limits: WebCredentials["settings"]["limits"], headers: Answer["headers"]): RequestsLeft {
  const now = Date.now();
  const rest = allowance(headers, now);
  const resets = rest?.resets == null ? null : new Date(now + rest.resets).toISOString();
  return { told: rest && { left: rest.left, resets }, ...ownLeft(name, limits) };
}

/** The headers that sign a request in. */
async function signedIn(credentials: WebCredentials): Promise<Record<string, string>> {
  const { settings, password } = credentials;
  const { auth } = settings;
  if (!auth) return {};
  if (auth.basic) return { authorization: `Basic ${Buffer.from(`${auth.basic.user}:${password}`).toString("base64")}` };
  if (auth.key) return { [auth.key.header.toLowerCase()]: password };
  if (auth.oauth) return { authorization: `Bearer ${await bearerOf(credentials)}` };
  return { authorization: `Bearer ${password}` };
}

const headersOf = (headers: Dispatcher.ResponseData["headers"]): Record<string, string | undefined> =>
  Object.fromEntries(
    Object.entries(headers).map(([name, value]) => [
      name.toLowerCase(),
      value === undefined ? undefined : [value].flat().join(", "),
    ]),
  );

/** The most bytes of an answer that is written to a file. */
const largestFile = 64 * 1024 * 1024 * 1024;

/** An answer's body as it comes. @throws LoadFailure where it is packed in a way that is not read */
function streamOf(
  response: Dispatcher.ResponseData,
  headers: Record<string, string | undefined>,
  at: URL,
): AsyncIterable<unknown> {
  const packed = headers["content-encoding"]?.trim().toLowerCase();
  if (!packed || packed === "identity") return response.body;
  const unpack = unpackers[packed];
  if (!unpack) {
    response.body.destroy();
    throw new LoadFailure({ message: `${at.host} packs its answer in a way that is not read: ${packed}` });
  }
  return pipeline(response.body, unpack() as Transform, () => undefined);
}

/** Writes an answer's body to a file; how many bytes it is. */
async function fileOf(
  response: Dispatcher.ResponseData,
  headers: Record<string, string | undefined>,
  at: URL,
  path: string,
): Promise<number> {
  let size = 0;
  await write(
    streamOf(response, headers, at),
    async function* (parts: AsyncIterable<unknown>) {
      for await (const part of parts) {
        size += (part as Buffer).length;
        if (size > largestFile)
          throw new LoadFailure({ message: `${at.host} answers with more than ${largestFile / 1024 ** 3} GB` });
        yield part;
      }
    },
    createWriteStream(path, { mode: 0o600 }),
  );
  return size;
}

/** An answer's body, unpacked. @throws LoadFailure where it is longer than is taken, however small it was packed */
async function bodyOf(
  response: Dispatcher.ResponseData,
  headers: Record<string, string | undefined>,
  at: URL,
): Promise<Buffer> {
  const stream = streamOf(response, headers, at);
  const parts: Buffer[] = [];
  let size = 0;
  try {
    for await (const part of stream) {
      size += (part as Buffer).length;
      if (size > longestAnswer)
        throw new LoadFailure({
          message: `${at.host} answers with more than ${longestAnswer / 1024 / 1024} MB at once`,
          hint: "Ask for smaller pages.",
        });
      parts.push(part as Buffer);
    }
  } finally {
    response.body.destroy();
  }
  return Buffer.concat(parts);
}

/** True for a failure of the way, after which another try may pass. */
function passes(error: unknown): boolean {
  const code = String((error as { code?: unknown }).code ?? "");
  return (
    /^(ECONN|EPIPE|ETIMEDOUT|EAI_AGAIN|UND_ERR_(SOCKET|HEADERS_TIMEOUT|BODY_TIMEOUT|CONNECT_TIMEOUT|RES_CONTENT_LENGTH|CLOSED)|Z_BUF_ERROR|HPE_)/.test(
      code,
    ) || /terminated|aborted|premature/i.test((error as Error).message)
  );
}

function unreached(name: string, address: string, error: unknown, tries: number): LoadFailure {
  const { code = "", message } = error as { code?: string; message: string };
  const { host, port } = destination(new URL(address));
  const often = tries > 1 ? `, though it was tried ${tries} times` : "";
  if (code === "ENOTFOUND")
    return new LoadFailure({ message: `The host name ${host} is not known`, hint: "Check its spelling." });
  if (code === "ECONNREFUSED")
    return new LoadFailure({
      message: `Nothing answers at ${host}:${port}${often}`,
      hint: "Check the address, and that the application runs.",
    });
  if (/CERT|SELF_SIGNED|ALTNAME|TLS|SSL/i.test(code))
    return new LoadFailure({
      message: `${name}'s certificate was not accepted: ${message}`,
      hint: "It must be one that this machine trusts (NODE_EXTRA_CA_CERTS names others).",
    });
  if (/^Z_/.test(code))
    return new Unanswered({ message: `${host} answers with what can't be unpacked`, detail: message });
  return new Unanswered({ message: `${name} broke off its answer${often}`, detail: `${code} ${message}`.trim() });
}

/** What an application says when it says no, cut to what a person reads. */
function refused(name: string, address: string, { status, headers, body }: Answer, tries: number): LoadFailure {
  const page = /html/i.test(headers["content-type"] ?? "");
  const said = page ? undefined : body.toString("utf8").slice(0, 500).trim() || undefined;
  const what = shownAddress(address);
  const often = tries > 1 ? `, after ${tries} tries` : "";
  const scope = /insufficient_scope/.test(headers["www-authenticate"] ?? "")
    ? /scope="([^"]*)"/.exec(headers["www-authenticate"] ?? "")?.[1]
    : undefined;
  const hints: Record<number, string> = {
    401: "Check what it is signed in with.",
    403: scope
      ? `It asks for the scope ${scope}: add it to the connection.`
      : "What it is signed in with lacks the right.",
    404: "Check the path; the address is asked for just as it stands here.",
  };
  const failure = {
    message: `${name} answered ${status} to ${what}${often}`,
    ...(said ? { detail: said } : {}),
    ...(hints[status] ? { hint: hints[status] } : {}),
  };
  return status < 500 && status !== 408 ? new Refused(status, failure) : new Unanswered(failure);
}
