import { createServer, type IncomingMessage, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";

/** An application of a test's own. */
export interface Web {
  url: string;
  /** answers every request from now on */
  answer(how: (request: IncomingMessage, response: ServerResponse, url: URL) => void): void;
  /** what was asked for, with its parameters, since the last time it was taken */
  take(): string[];
  close(): Promise<void>;
}

export async function makeWeb(): Promise<Web> {
  let how: Parameters<Web["answer"]>[0] = (_, response) => response.writeHead(404).end();
  let asked: string[] = [];
  const server = createServer((request, response) => {
    asked.push(request.url ?? "");
    how(request, response, new URL(request.url ?? "/", "http://here"));
  });
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    answer: (next) => {
      how = next;
      asked = [];
    },
    take: () => {
      const taken = asked;
      asked = [];
      return taken;
    },
    close: () =>
      new Promise((done) => {
        server.close(() => done());
        server.closeAllConnections();
      }),
  };
}

/** Answers with JSON as it is written. */
export const json = (response: ServerResponse, body: string, headers: Record<string, string> = {}) =>
  response.writeHead(200, { "content-type": "application/json", ...headers }).end(body);
