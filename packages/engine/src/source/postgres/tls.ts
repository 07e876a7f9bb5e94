import { once } from "node:events";
import { connect, isIP } from "node:net";
import { connect as secure } from "node:tls";
import type { ServerSettings } from "@undercoat/core/pipeline/pipeline";

/** The SSLRequest message of PostgreSQL's protocol: its length and its code. */
const sslRequest = Buffer.from([0, 0, 0, 8, 4, 210, 22, 47]);
const patience = 5000;

/**
 * Asks the server for TLS and shakes hands, checking the certificate where the settings say so; nothing is sent after it.
 * @returns what was agreed: `TLSv1.3, certificate checked`
 */
export async function handshake(settings: ServerSettings): Promise<string> {
  const socket = connect({ host: settings.host, port: settings.port });
  socket.setTimeout(patience, () => socket.destroy(new Error("timeout expired")));
  try {
    await once(socket, "connect");
    socket.write(sslRequest);
    const [answer] = (await once(socket, "data")) as [Buffer];
    if (answer.toString("latin1") !== "S") throw new Error("The server does not support SSL connections");
    const checked = settings.tls === "verify";
    const tls = secure({
      socket,
      rejectUnauthorized: checked,
      ...(isIP(settings.host) ? {} : { servername: settings.host }),
    });
    await once(tls, "secureConnect");
    return `${tls.getProtocol()}, certificate ${checked ? "checked" : "not checked"}`;
  } finally {
    socket.destroy();
  }
}
