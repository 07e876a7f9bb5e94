import type { AddressInfo } from "node:net";
import { simpleParser } from "mailparser";
import { SMTPServer } from "smtp-server";

/** A mail that has arrived. */
export interface ArrivedMail {
  at: string;
  from: string;
  to: string[];
  subject: string;
  text: string;
  /** its identity, without brackets */
  id: string;
}

export interface Inbox {
  port: number;
  /** the latest first */
  mails(): ArrivedMail[];
  /** answers the next so many mails with a passing refusal */
  refuse(times: number): void;
  close(): Promise<void>;
}

/** So many are kept. */
const kept = 200;

/** A mail server on loopback that speaks SMTP, takes what it is given and shows it; nothing leaves it. `port` 0 is any. */
export async function openInbox(port = 0): Promise<Inbox> {
  const mails: ArrivedMail[] = [];
  let refusing = 0;
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ["STARTTLS"],
    allowInsecureAuth: true,
    onAuth: (auth, _session, done) => done(null, { user: auth.username ?? "" }),
    onData(stream, session, done) {
      simpleParser(stream).then((mail) => {
        if (refusing > 0) {
          refusing--;
          done(Object.assign(new Error("Come back later"), { responseCode: 451 }));
          return;
        }
        mails.unshift({
          at: new Date().toISOString(),
          from: mail.from?.text ?? "",
          to: session.envelope.rcptTo.map(({ address }) => address),
          subject: mail.subject ?? "",
          text: mail.text ?? "",
          id: (mail.messageId ?? "").replace(/^<|>$/g, ""),
        });
        mails.length = Math.min(mails.length, kept);
        done(null);
      }, done);
    },
  });
  await new Promise<void>((done, fail) => {
    server.once("error", fail);
    server.listen(port, "127.0.0.1", done);
  });
  server.on("error", () => undefined);
  return {
    port: (server.server.address() as AddressInfo).port,
    mails: () => [...mails],
    refuse: (times) => {
      refusing = times;
    },
    close: () => new Promise((done) => server.close(done)),
  };
}
