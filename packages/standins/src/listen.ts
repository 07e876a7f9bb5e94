import type { IncomingMessage, Server } from "node:http";
import type { AddressInfo } from "node:net";

/** Lets a server listen on loopback; `port` 0 is any. Closing cuts what is still connected. */
export async function listen(server: Server, port: number): Promise<{ port: number; close: () => Promise<void> }> {
  await new Promise<void>((done, fail) => {
    server.once("error", fail);
    server.listen(port, "127.0.0.1", done);
  });
  return {
    port: (server.address() as AddressInfo).port,
    close: () =>
      new Promise((done) => {
        server.close(() => done());
        server.closeAllConnections();
      }),
  };
}

/** Hands over what was sent with a request, once it is here; more than 100,000 signs cut it off. */
export function withBody(request: IncomingMessage, take: (body: string) => unknown): void {
  let body = "";
  request.on("data", (part) => {
    body += part;
    if (body.length > 100_000) request.destroy();
  });
  request.on("end", () => void take(body));
}
