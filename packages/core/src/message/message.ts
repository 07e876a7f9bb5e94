/** Of what somebody is told. */
export const occasions = ["failed", "disagrees", "rejected", "late", "drift", "finished"] as const;
export type Occasion = (typeof occasions)[number];

/** By when a pipeline must have been loaded each day. */
export interface Deadline {
  /** `07:00` */
  by: string;
  zone?: string;
  /** `finished` where absent */
  needs?: "finished" | "proved";
}

interface Told {
  on: Occasion[];
  /** all where absent */
  pipelines?: string[];
  /** so many rejected rows of a load in one run are no trouble; 0 where absent */
  over?: number;
  /** without one, late is what was due and has not begun */
  late?: Deadline;
}

/** Who is told, of what, and where: to a program by an HTTP request, or to a person by mail. */
export type Message = Told &
  ({ to: "webhook"; url: string; headers?: Record<string, string> } | { to: "mail"; address: string });

/** The server that mail is handed to. */
export interface MailServer {
  host: string;
  port: number;
  /** who it is from */
  from: string;
  user?: string;
  /** `off` where absent */
  tls?: "off" | "starttls" | "tls";
}

/** After how many seconds a delivery that was not taken is tried again; after the last it is given up, a day later. */
export const retryWaits: readonly number[] = [30, 120, 600, 1800, 3600, 7200, 14_400, 28_800, 28_800];

/** True where a stored secret would go where it went before. */
export function sameReceiver(a: Message, b: Message): boolean {
  if (a.to === "webhook" && b.to === "webhook") return new URL(a.url).origin === new URL(b.url).origin;
  return a.to === b.to;
}
