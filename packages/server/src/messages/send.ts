import { type Attempt, type Delivery, mailText, subjectOf } from "@undercoat/core/message/delivery";
import type { MailServer, Message } from "@undercoat/core/message/message";
import { createTransport } from "nodemailer";
import { Webhook } from "standardwebhooks";

/** How long a receiver may take to answer, in milliseconds. */
const patience = 15_000;
/** So much of an answer is kept, in characters. */
const keptAnswer = 2000;

/** Something to hand over, and what goes with it. */
export interface Parcel {
  uid: string;
  message: Message;
  /** signs a webhook; null where none is given */
  secret: string | null;
  body: Delivery;
}

export interface MailAccess {
  settings: MailServer;
  password: string | null;
}

const signer = (secret: string) =>
  secret.startsWith("whsec_") ? new Webhook(secret) : new Webhook(secret, { format: "raw" });

/** The first characters of an answer; the rest is not read. */
async function start(response: Response): Promise<string> {
  const reader = response.body?.getReader();
  if (!reader) return "";
  const decoder = new TextDecoder();
  let text = "";
  while (text.length < keptAnswer) {
    const { done, value } = await reader.read();
    if (done) break;
    text += decoder.decode(value, { stream: true });
  }
  await reader.cancel().catch(() => undefined);
  return text.slice(0, keptAnswer);
}

/** What went wrong with a request, in words. */
function reason(error: unknown): string {
  const { name, cause, message } = error as Error & { cause?: Error & { code?: string } };
  if (name === "TimeoutError") return `Nothing answered within ${patience / 1000} s`;
  if (cause?.code === "ECONNREFUSED") return "Nothing answers there: the connection was refused";
  if (cause?.code === "ENOTFOUND") return "There is no such host";
  if (cause?.message === "bad port") return "Requests to this port are not made: it is another protocol's";
  return cause?.message || message;
}

/**
 * Posts a delivery as JSON, signed as the Standard Webhooks specification says. Whatever is not 2xx counts as not taken,
 * and no redirection is followed.
 */
async function post({
  uid,
  message,
  secret,
  body,
}: Parcel & { message: { to: "webhook" } }): Promise<Omit<Attempt, "at" | "took">> {
  const text = JSON.stringify(body);
  const now = new Date();
  const headers: Record<string, string> = {
    ...message.headers,
    "content-type": "application/json",
    "user-agent": "Undercoat",
    "webhook-id": uid,
    "webhook-timestamp": String(Math.floor(now.getTime() / 1000)),
    ...(secret === null ? {} : { "webhook-signature": signer(secret).sign(uid, now, text) }),
  };
  const request = { to: message.url, headers };
  try {
    const response = await fetch(message.url, {
      method: "POST",
      headers,
      body: text,
      redirect: "manual",
      signal: AbortSignal.timeout(patience),
    });
    const answer = { status: response.status, text: await start(response) };
    return { request, answer, error: response.ok ? null : `It answered ${response.status}` };
  } catch (error) {
    return { request, answer: null, error: reason(error) };
  }
}

async function mail(
  { uid, message, body }: Parcel & { message: { to: "mail" } },
  access: MailAccess | null,
): Promise<Omit<Attempt, "at" | "took">> {
  if (!access) return { request: { to: message.address, headers: {} }, answer: null, error: "No mail server is named" };
  const { host, port, from, user, tls = "off" } = access.settings;
  const headers = {
    from,
    to: message.address,
    subject: subjectOf(body),
    "message-id": `<${uid}@${from.split("@")[1] ?? "undercoat"}>`,
  };
  const transport = createTransport({
    host,
    port,
    secure: tls === "tls",
    requireTLS: tls === "starttls",
    ignoreTLS: tls === "off",
    ...(user ? { auth: { user, pass: access.password ?? "" } } : {}),
    connectionTimeout: patience,
    greetingTimeout: patience,
    socketTimeout: patience,
    // Nothing of a message names a file or an address to fetch.
    disableFileAccess: true,
    disableUrlAccess: true,
  });
  const request = { to: `${host}:${port}`, headers };
  try {
    const { response } = await transport.sendMail({
      from,
      to: message.address,
      subject: headers.subject,
      messageId: headers["message-id"],
      text: mailText(body),
      headers: { "Auto-Submitted": "auto-generated" },
    });
    return { request, answer: { status: Number(response.slice(0, 3)) || 250, text: response }, error: null };
  } catch (error) {
    const { responseCode, response, message: words } = error as Error & { responseCode?: number; response?: string };
    return {
      request,
      answer: responseCode ? { status: responseCode, text: (response ?? "").slice(0, keptAnswer) } : null,
      error: words,
    };
  } finally {
    transport.close();
  }
}

/** Hands a delivery over once. What goes wrong is told in the attempt. */
export async function send(parcel: Parcel, access: MailAccess | null): Promise<Attempt> {
  const began = Date.now();
  const { message } = parcel;
  const outcome =
    message.to === "webhook" ? await post({ ...parcel, message }) : await mail({ ...parcel, message }, access);
  return { at: new Date(began).toISOString(), took: Date.now() - began, ...outcome };
}
