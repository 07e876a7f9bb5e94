import { createServer, type Server, type Socket } from "node:net";

/** What becomes of a load's COMMIT: it arrives and its answer is lost, it is lost itself, or nothing special. */
export type Fate = "answer lost" | "lost" | null;

/** A wire to a server that can be cut at a chosen moment. */
export interface Wire {
  port: number;
  /** what becomes of the next COMMIT after a tally was written; null again when it has */
  fate: Fate;
  /** the wire is down from then on */
  thenDown: boolean;
  /** nothing gets through */
  down: boolean;
  close(): Promise<void>;
}

/** Listens on a port of its own and passes everything on to a port of this machine. */
export async function makeWire(to: number): Promise<Wire> {
  const sockets = new Set<Socket>();
  const { connect } = await import("node:net");
  const wire: Wire = { port: 0, fate: null, thenDown: false, down: false, close: async () => undefined };
  const server: Server = createServer((near) => {
    if (wire.down) {
      near.destroy();
      return;
    }
    const far = connect(to, "127.0.0.1");
    for (const socket of [near, far]) {
      sockets.add(socket);
      socket.on("error", () => undefined);
      socket.on("close", () => {
        sockets.delete(socket);
        near.destroy();
        far.destroy();
      });
    }
    let recorded = false;
    near.on("data", (bytes: Buffer) => {
      recorded ||= bytes.includes("deleted, watermark, proof");
      const commits = recorded && bytes.includes("COMMIT\0");
      if (commits) recorded = false;
      const { fate } = wire;
      if (fate === null || !commits) {
        far.write(bytes);
        return;
      }
      wire.fate = null;
      wire.down = wire.thenDown;
      // Sessions that rest would still get through.
      if (wire.down) for (const socket of sockets) if (socket !== near && socket !== far) socket.destroy();
      if (fate === "lost") {
        near.destroy();
        return;
      }
      // The server's answer is awaited, so that it has committed, and goes no further.
      far.removeAllListeners("data");
      far.once("data", () => near.destroy());
      far.write(bytes);
    });
    far.on("data", (bytes: Buffer) => near.write(bytes));
  });
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  wire.port = (server.address() as { port: number }).port;
  wire.close = async () => {
    for (const socket of sockets) socket.destroy();
    await new Promise<void>((done) => server.close(() => done()));
  };
  return wire;
}
