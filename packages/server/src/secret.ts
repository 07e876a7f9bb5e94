import { createCipheriv, createDecipheriv, createHash, randomBytes } from "node:crypto";

/** Encrypts a secret for the store (AES-256-GCM): version, nonce, tag and ciphertext as base64. `about` binds it to its place. */
export function seal(key: Buffer, secret: string, about: string): string {
  const nonce = randomBytes(12);
  const cipher = createCipheriv("aes-256-gcm", key, nonce).setAAD(Buffer.from(about));
  const sealed = Buffer.concat([cipher.update(secret, "utf8"), cipher.final()]);
  return `1:${Buffer.concat([nonce, cipher.getAuthTag(), sealed]).toString("base64")}`;
}

/** @throws Error when the key is another one or the text was changed or moved. */
export function unseal(key: Buffer, text: string, about: string): string {
  const bytes = Buffer.from(text.replace(/^1:/, ""), "base64");
  const decipher = createDecipheriv("aes-256-gcm", key, bytes.subarray(0, 12)).setAAD(Buffer.from(about));
  decipher.setAuthTag(bytes.subarray(12, 28));
  return Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString("utf8");
}

/** A new unguessable token. */
export const newToken = () => randomBytes(32).toString("base64url");

/** What the store keeps of a token: a hash is enough to know it again, and too little to use. */
export const hashToken = (token: string) => createHash("sha256").update(token).digest("hex");
