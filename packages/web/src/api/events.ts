import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import type { Event } from "@undercoat/core/api/api";
import { useEffect } from "react";
import { queries, refresh, staleBy, standing } from "./queries.ts";
import { setAway } from "./server.ts";
import { listen } from "./stream.ts";

/** Puts what a running load tells into what is shown, without asking. */
function takeProgress(client: QueryClient, event: Extract<Event, { kind: "progress" }>): void {
  client.setQueryData(queries.progress(event.run).queryKey, (before) => ({ ...before, [event.load]: event }));
  client.setQueryData(
    queries.run(event.run).queryKey,
    (run) =>
      run && {
        ...run,
        loads: run.loads.map((load) =>
          load.load === event.load && (load.status === "queued" || load.status === "running")
            ? {
                ...load,
                phase: event.phase,
                waitingFor: event.waitingFor,
                phases: event.phases,
                status: "running" as const,
              }
            : load,
        ),
      },
  );
  client.setQueryData(
    queries.dock().queryKey,
    (dock) =>
      dock && {
        ...dock,
        running: dock.running.map((entry) =>
          entry.run === event.run
            ? { ...entry, load: event.load, rows: event.rows, rate: event.rate, waitingFor: event.waitingFor }
            : entry,
        ),
      },
  );
}

/** Keeps what the pages show in step with what the server tells; when it is back, everything is asked anew. */
export function useEvents(): void {
  const client = useQueryClient();
  useEffect(() => {
    let first = true;
    return listen((heard) => {
      setAway(heard.kind === "away");
      if (heard.kind === "event") {
        if (heard.event.kind === "progress") takeProgress(client, heard.event);
        for (const key of staleBy(heard.event)) refresh(client, key);
      }
      if (heard.kind === "there") {
        // What the first page asked may have been answered before anybody listened; its trials have not changed since.
        for (const key of first ? standing : [[]]) refresh(client, key);
        first = false;
      }
    });
  }, [client]);
}
