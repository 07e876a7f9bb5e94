import { routes } from "./context.ts";
import { backfills } from "./routes/backfills.ts";
import { connections } from "./routes/connections.ts";
import { consent } from "./routes/consent.ts";
import { demo } from "./routes/demo.ts";
import { events } from "./routes/events.ts";
import { history } from "./routes/history.ts";
import { search, standing, warehouse } from "./routes/ledger.ts";
import { deliveries, mail, messages } from "./routes/messages.ts";
import { pipelines } from "./routes/pipelines.ts";
import { project } from "./routes/project.ts";
import { proofs } from "./routes/proofs.ts";
import { rejected } from "./routes/rejected.ts";
import { runs } from "./routes/runs.ts";
import { schedules } from "./routes/schedules.ts";
import { session } from "./routes/session.ts";
import { taken } from "./routes/taken.ts";
import { tokens, users } from "./routes/users.ts";
import { workers } from "./routes/workers.ts";

/** All that the server answers below `/api` to those it knows. */
export const api = routes()
  .route("/session", session)
  .route("/users", users)
  .route("/tokens", tokens)
  .route("/connections", connections)
  .route("/consent", consent)
  .route("/pipelines", pipelines)
  .route("/schedules", schedules)
  .route("/backfills", backfills)
  .route("/messages", messages)
  .route("/deliveries", deliveries)
  .route("/mail", mail)
  .route("/workers", workers)
  .route("/files", taken)
  .route("/runs", runs)
  .route("/proofs", proofs)
  .route("/rejected", rejected)
  .route("/standing", standing)
  .route("/warehouse", warehouse)
  .route("/history", history)
  .route("/search", search)
  .route("/project", project)
  .route("/events", events)
  .route("/demo", demo);

/** What the pages' client is made from: every path with what it takes and answers. */
export type Api = typeof api;
