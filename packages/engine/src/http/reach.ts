import { isIP } from "node:net";
import { Agent } from "undici";
import { allowed, type Destination } from "./egress.ts";

/** How long an answer may take to begin, and its parts to follow each other, in milliseconds. */
const patience = 60_000;

/** Where hosts are that have been looked at. */
const placed = new Map<string, string[]>();

/** Reaches hosts at the addresses that were looked at: a name that leads elsewhere a moment later is not followed. */
export const agent = new Agent({
  headersTimeout: patience,
  bodyTimeout: patience,
  maxHeaderSize: 32 * 1024,
  connect: {
    timeout: 15_000,
    lookup: (host, { all }, done) => {
      const addresses = (placed.get(host) ?? []).map((address) => ({ address, family: isIP(address) }));
      const [first] = addresses;
      if (!first) done(Object.assign(new Error(`${host} was not looked at`), { code: "ENOTFOUND" }), "", 4);
      else if (all) done(null, addresses);
      else done(null, first.address, first.family);
    },
  },
});

/** Looks at a host that is about to be asked. @throws LoadFailure where no connection may lead there */
export async function reach(to: Destination): Promise<void> {
  placed.set(to.host, await allowed(to));
}

/** Where an address leads. */
export const destination = (url: URL): Destination => ({
  host: url.hostname.replace(/^\[|\]$/g, ""),
  port: Number(url.port || (url.protocol === "https:" ? 443 : 80)),
});
