import type { Server } from "node:http";
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
