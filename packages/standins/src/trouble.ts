import type { IncomingMessage, ServerResponse } from "node:http";

/** What goes wrong at an application, where somebody wants to see what becomes of it. */
export interface Trouble {
  /** every answer takes so many milliseconds longer */
  slow?: number;
  /** of so many requests one is answered with 503 */
  fails?: number;
  /** of so many requests one is cut off in the middle of its answer */
  cuts?: number;
  /** so many requests in two seconds, more are answered with 429 */
  limit?: number;
  /** records have a field more, or lack one */
  fields?: "more" | "fewer";
}

/** The trouble that an application is in; `POST /trouble` with JSON makes it another, `{}` ends it. */
export class Troubles {
  now: Trouble = {};
  private asked = 0;
  private lately: number[] = [];

  set(next: Trouble): void {
    this.now = next;
    this.lately = [];
  }

  /** Takes a request that changes it; true where it was one. Pages of other sites can't send it. */
  takes(request: IncomingMessage, response: ServerResponse, path: string, body: string): boolean {
    if (path !== "/trouble" || request.method !== "POST") return false;
    if (request.headers["content-type"] !== "application/json") response.writeHead(415).end();
    else {
      this.set(JSON.parse(body || "{}") as Trouble);
      response.writeHead(204).end();
    }
    return true;
  }

  /** Lets a request meet it; true where it was answered, or cut off, by that. */
  async meets(response: ServerResponse): Promise<boolean> {
    const { slow, fails, cuts, limit } = this.now;
    this.asked++;
    if (slow) await new Promise((done) => setTimeout(done, slow));
    if (limit) {
      const now = Date.now();
      this.lately = this.lately.filter((at) => at > now - 2000);
      if (this.lately.length >= limit) {
        response.writeHead(429, { "retry-after": "1" }).end();
        return true;
      }
      this.lately.push(now);
    }
    if (fails && this.asked % fails === 0) {
      response.writeHead(503).end("Not now");
      return true;
    }
    if (cuts && this.asked % cuts === 0) {
      response.writeHead(200, { "content-type": "application/json", "content-length": "100000" });
      response.write('{"data":[');
      response.destroy();
      return true;
    }
    return false;
  }
}
