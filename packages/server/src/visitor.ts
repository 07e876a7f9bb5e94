import { networkInterfaces } from "node:os";
import { getConnInfo } from "@hono/node-server/conninfo";
import type { Context } from "hono";
import type { Settings } from "./settings.ts";

/** The address that a request comes from: the peer's, or what a trusted proxy says of it. */
export function addressOf(c: Context, { proxies }: Settings): string {
  const peer = peerOf(c);
  if (!proxies.includes(peer)) return peer;
  const told = (c.req.header("X-Forwarded-For") ?? "")
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean);
  return told.findLast((address) => !proxies.includes(address)) ?? peer;
}

function peerOf(c: Context): string {
  try {
    return (getConnInfo(c).remote.address ?? "unknown").replace(/^::ffff:/, "");
  } catch {
    return "unknown";
  }
}

/** True where the visitor's browser came by TLS: to this server, or to a proxy that is trusted. */
export function isSecure(c: Context, { proxies }: Settings): boolean {
  if (new URL(c.req.url).protocol === "https:") return true;
  return proxies.includes(peerOf(c)) && c.req.header("X-Forwarded-Proto") === "https";
}

/** Host names without their ports. */
const bare = (host: string) =>
  host
    .toLowerCase()
    .replace(/:\d+$/, "")
    .replace(/^\[|\]$/g, "");

/** True for a name that this server answers to: its own address, localhost, and those that were set. A page of another name must not reach it through a visitor's browser. */
export function answersTo(host: string, { host: own, hosts }: Settings): boolean {
  const name = bare(host);
  const everywhere = own === "0.0.0.0" || own === "::";
  const addresses = everywhere
    ? Object.values(networkInterfaces()).flatMap((entries) =>
        (entries ?? []).map((entry) => entry.address.toLowerCase()),
      )
    : [own.toLowerCase()];
  return ["localhost", "127.0.0.1", "::1", ...addresses, ...hosts].includes(name);
}
