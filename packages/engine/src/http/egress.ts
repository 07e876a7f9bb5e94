import { lookup } from "node:dns/promises";
import { BlockList, isIP } from "node:net";
import { networkInterfaces } from "node:os";
import { LoadFailure } from "../failure.ts";

/** Where connections may lead, as the administrator lists it. */
export interface EgressPolicy {
  /** patterns of `host:port`, `*` standing for any characters; a pattern without a port takes every port */
  allowed: readonly string[];
  /** places of the product's own, which only a pattern that names them allows */
  own: readonly { host: string; port: number; database: string | null }[];
}

let policy: EgressPolicy = { allowed: ["*"], own: [] };

/** Says where connections may lead from now on. */
export function allowEgress(next: EgressPolicy): void {
  policy = next;
}

const linkLocal = new BlockList();
linkLocal.addSubnet("169.254.0.0", 16, "ipv4");
linkLocal.addSubnet("fe80::", 10, "ipv6");
const loopback = new BlockList();
loopback.addSubnet("127.0.0.0", 8, "ipv4");
loopback.addAddress("::1", "ipv6");
loopback.addAddress("0.0.0.0", "ipv4");
loopback.addAddress("::", "ipv6");

const family = (address: string) => (isIP(address) === 6 ? "ipv6" : "ipv4");
/** An IPv4 address that is written as one of IPv6. */
const plain = (address: string) => address.replace(/^::ffff:(?=\d+\.\d+\.\d+\.\d+$)/i, "");

function fits(pattern: string, host: string, port: number): boolean {
  const [, name = "", wanted = "*"] = /^(\[[^\]]*\]|[^:]*)(?::(.*))?$/.exec(pattern) ?? [];
  const form = (text: string) =>
    new RegExp(`^${text.replace(/[.+?^${}()|[\]\\]/g, "\\$&").replaceAll("*", ".*")}$`, "i");
  return form(name.replace(/^\[|\]$/g, "")).test(host) && form(wanted).test(String(port));
}

/** What is being reached. */
export interface Destination {
  host: string;
  port: number;
  /** the database that is asked for there, where it is a database server */
  database?: string;
}

/**
 * Finds out where a host is and that a connection may lead there.
 * @returns its addresses; only to these it may then connect, lest the name lead elsewhere a moment later
 * @throws LoadFailure where it may not
 */
export async function allowed({ host, port, database }: Destination): Promise<string[]> {
  const name = host.replace(/^\[|\]$/g, "");
  const found = isIP(name) ? [name] : (await lookup(name, { all: true })).map(({ address }) => address);
  const { allowed: patterns, own } = policy;
  const listed = (at: string) => patterns.filter((pattern) => fits(pattern, at, port));
  const addresses = found.map(plain);
  const fitting = [name, ...addresses].flatMap(listed);
  const refuse = (why: string): never => {
    throw new LoadFailure({
      message: `No connection may lead to ${host}:${port}: ${why}`,
      hint: "The administrator lists where connections may lead in UNDERCOAT_EGRESS.",
    });
  };
  if (fitting.length === 0) refuse("it is not on the administrator's list");
  // What a pattern allows that takes any host or port is nothing that must be named.
  const named = fitting.some((pattern) => /^[^*]+:\d+$/.test(pattern));
  if (named) return found;
  if (addresses.some((address) => linkLocal.check(address, family(address)))) refuse("its address is link-local");
  // A server that listens everywhere is reached by each of this machine's addresses.
  const here = (address: string, other: string) =>
    address === other || ((loopback.check(address, family(address)) || isOwn(address)) && isLoopback(other));
  const ours = own.find(
    (one) =>
      one.port === port &&
      (one.database === null || database === undefined || one.database === database) &&
      addresses.some((address) => here(address, one.host)),
  );
  if (ours) refuse("it is the product's own");
  return found;
}

/** True for an address of this machine. */
const isOwn = (address: string) =>
  Object.values(networkInterfaces()).some((list) => list?.some((one) => one.address === address));

const isLoopback = (host: string) => host === "localhost" || (isIP(host) > 0 && loopback.check(host, family(host)));
