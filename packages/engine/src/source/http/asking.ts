import type { Asked, AskedRequest, RequestsLeft } from "@undercoat/core/run/run";
import type { Answer, HttpClient, HttpRequest } from "../../http/client.ts";

/** So many requests are told one by one. */
const mostTold = 500;

/** What goes along with a request. */
export type Asks = Pick<HttpRequest, "accept" | "headers">;

export interface AskingOptions {
  client: HttpClient;
  /** what goes along with every request */
  asks?: Asks;
  /** true where what fails is tried again for minutes */
  goesOn: boolean;
  waiting?: (why: string | null) => void;
  signal?: AbortSignal;
}

/** An application as one load asks it: what was asked is written down, and when it answered first. */
export class Asking {
  readonly told: Asked = { requests: [], count: 0, bytes: 0, first: null };
  private date: string | null = null;

  constructor(private readonly options: AskingOptions) {}

  /** Who is told of a request, and how long it is waited for. */
  get hears(): Pick<HttpRequest, "signal" | "waiting" | "told" | "left"> {
    const { signal, waiting } = this.options;
    return { signal, waiting, told: (asked) => this.tell(asked), left: (left) => this.keepLeft(left) };
  }

  async ask(address: string, asks = this.options.asks): Promise<Answer> {
    const { client, goesOn: patient } = this.options;
    const answer = await client.ask({ address, ...asks, patient, ...this.hears });
    this.date ??= answer.headers.date ?? null;
    return answer;
  }

  /** The application's own time when it answered first, as PostgreSQL reads it; this machine's where it does not tell. */
  get moment(): string {
    const at = this.date === null ? Number.NaN : Date.parse(this.date);
    return new Date(Number.isNaN(at) ? Date.now() : at).toISOString().replace("Z", "+00");
  }

  /** How many requests more there may be, as far as anybody says. */
  get spare(): number {
    const { told, minute, hour } = this.told.left ?? {};
    return Math.min(...[told, minute, hour].map((limit) => limit?.left ?? Number.POSITIVE_INFINITY));
  }

  private keepLeft(left: RequestsLeft): void {
    if (left.told || left.minute || left.hour) this.told.left = left;
  }

  private tell(asked: AskedRequest): void {
    this.told.count++;
    this.told.bytes += asked.bytes;
    if (this.told.requests.length < mostTold) this.told.requests.push(asked);
  }
}
