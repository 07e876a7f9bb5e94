import { PlanError } from "@undercoat/core/plan/error";
import type { Failure } from "@undercoat/core/run/run";
import { NameError } from "@undercoat/core/sql/identifier";

/** An error that says what a person needs to know. */
export class LoadFailure extends Error {
  constructor(readonly failure: Failure) {
    super(failure.message);
  }
}

/** A table that is not there, or that this user may not see. */
export class NoTable extends LoadFailure {}

/** A load whose files are taken away once they are loaded finds none: there is nothing to do, which is no fault. */
export class NothingThere extends LoadFailure {}

/** Stopped because somebody asked for it. */
export class Cancelled extends Error {}

/** The warehouse was told to commit and its answer never came: only the warehouse knows whether it has. */
export class InDoubt extends Error {
  constructor(override readonly cause: unknown) {
    super("The warehouse did not answer whether it has committed");
  }
}

/** True for an error that a server gave as its answer to a statement, so that the session goes on. */
export function isAnswer(error: unknown): boolean {
  return (error as { severity?: unknown } | null)?.severity === "ERROR";
}

/** True for errors that a row's own values cause: class 22 of PostgreSQL's error codes, limits that a value exceeds, and NaN where an integer should be (0A000). */
export function isDataError(error: unknown): boolean {
  const code = (error as { code?: unknown }).code;
  return typeof code === "string" && (code.startsWith("22") || code === "54000" || code === "0A000");
}

/** An error as PostgreSQL's driver gives it. */
export interface ServerError extends Error {
  code?: string;
  /** where in the statement, from 1 */
  position?: string;
  detail?: string;
  hint?: string;
  column?: string;
  table?: string;
  schema?: string;
  severity?: string;
  routine?: string;
}

export interface Place {
  /** `Bookings app` or the like: what the error happened at */
  name: string;
  host?: string;
  port?: number;
  user?: string;
  database?: string;
}

/** The facts behind codes of the operating system and PostgreSQL (appendix A of its manual), with what to do. */
function known(error: ServerError, place: Place): Failure | null {
  const address = `${place.host}:${place.port}`;
  switch (error.code) {
    case "ENOTFOUND":
    case "EAI_AGAIN":
      return {
        message: `The host name ${place.host} is not known`,
        hint: "Check its spelling, or give the address as a number.",
      };
    case "ECONNREFUSED":
      return {
        message: `Nothing answers at ${address}`,
        hint: "Check the port, and that the server runs and listens on that address.",
      };
    case "ETIMEDOUT":
    case "EHOSTUNREACH":
    case "ENETUNREACH":
      return { message: `${address} could not be reached`, hint: "A firewall or a wrong address is the usual reason." };
    case "28P01":
    case "28000":
      return {
        message: `${place.name} did not sign in ${place.user}: ${error.message}`,
        hint: "Check the user and the password, and the server's pg_hba.conf.",
      };
    case "3D000":
      return {
        message: `${place.name} has no database ${place.database}`,
        hint: "Check the database's name; capitals count.",
      };
    case "42501":
      if (/row-level security/.test(error.message))
        return {
          message: `${place.name}: ${error.message.replace("query would be affected by row-level security policy for table", "a policy hides rows of the table")} from ${place.user}`,
          hint: `Let ${place.user} read every row (BYPASSRLS, or a policy), or state in the load that the rows it may see are the ones to load: from: { …, rows: visible }.`,
        };
      return {
        message: `${place.name}: ${error.message}`,
        hint: `Grant ${place.user} the right, or use another user.`,
      };
    case "53300":
      return {
        message: `${place.name} takes no more connections`,
        detail: error.message,
        hint: "Wait, or raise max_connections there.",
      };
    case "53100":
      return {
        message: `The disk of ${place.name} is full`,
        detail: error.message,
        hint: "Free space there and run again; nothing was changed.",
      };
    case "57P01":
    case "57P02":
    case "57P03":
    case "ECONNRESET":
    case "EPIPE":
      return {
        message: `${place.name} closed the connection`,
        detail: error.message,
        hint: "The server was stopped or restarted. Nothing was changed; run again.",
      };
    default:
      return null;
  }
}

/** Any error as a failure; server errors keep their detail and hint, and name the side at which they happened. Never holds a password: pg's errors don't. */
export function failureOf(error: unknown, otherwise: Place = { name: "The server" }): Failure {
  const place = (error as { place?: Place } | null)?.place ?? otherwise;
  if (error instanceof LoadFailure) return error.failure;
  if (error instanceof PlanError) return { message: error.message, hint: "Mend the load's definition." };
  if (error instanceof NameError) return { message: error.message };
  if (!(error instanceof Error)) return { message: String(error) };
  const server = error as ServerError;
  const told = known(server, place);
  if (told) return told;
  if (
    /Connection terminated|Client has encountered a connection error|not queryable|socket hang up/i.test(error.message)
  )
    return {
      message: `The connection to ${place.name} was cut`,
      detail: error.message,
      hint: "Nothing was changed; run again.",
    };
  if (/timeout expired/i.test(error.message))
    return {
      message: `${place.host}:${place.port} did not answer in time`,
      hint: "A firewall or a wrong address is the usual reason.",
    };
  if (/does not support SSL/i.test(error.message))
    return { message: `${place.name} does not speak TLS`, hint: "Set tls to off, or turn TLS on at the server." };
  if (/self.signed|certificate/i.test(error.message))
    return {
      message: `${place.name}'s certificate was not accepted: ${error.message}`,
      hint: "Set tls to require to encrypt without checking the certificate.",
    };
  if (server.severity) return { message: `${place.name}: ${error.message}`, detail: server.detail, hint: server.hint };
  return { message: error.message };
}
