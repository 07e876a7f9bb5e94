import { randomBytes, scrypt, timingSafeEqual } from "node:crypto";

/** scrypt's cost: 32 MB and some 60 ms for each guess. */
const cost = { N: 32_768, r: 8, p: 1, maxmem: 64 * 1024 * 1024 };

function derive(password: string, salt: Buffer): Promise<Buffer> {
  return new Promise((done, fail) =>
    scrypt(password.normalize("NFKC"), salt, 32, cost, (error, key) => (error ? fail(error) : done(key))),
  );
}

/** The stored form of a password: salt and key. */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  return `scrypt:${salt.toString("base64")}:${(await derive(password, salt)).toString("base64")}`;
}

/** Whether a password matches its stored form; takes as long for an unknown account (`null`) as for a wrong password. */
export async function verifyPassword(password: string, stored: string | null): Promise<boolean> {
  const [, salt, key] = (stored ?? `scrypt:${"A".repeat(24)}:${"A".repeat(44)}`).split(":");
  const expected = Buffer.from(key ?? "", "base64");
  const given = await derive(password, Buffer.from(salt ?? "", "base64"));
  return stored !== null && given.length === expected.length && timingSafeEqual(given, expected);
}
