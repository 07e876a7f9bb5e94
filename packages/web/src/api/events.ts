import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import type { Dock, Event, RunView } from "@undercoat/core/api/api";
import { useEffect } from "react";
import { setAway } from "./server.ts";
import { listen } from "./stream.ts";

/** Counts and rate of a load that is reading, as last told. */
export interface Progress {
  load: string;
  phase: string;
  rows: string;
  bytes: number;
  rate: number;
  waitingFor: string | null;
}

function take(client: QueryClient, event: Event): void {
  switch (event.kind) {
    case "progress":
      client.setQueryData<Record<string, Progress>>(["progress", event.run], (before) => ({
        ...before,
        [event.load]: event,
      }));
      client.setQueryData<RunView>(
        ["runs", String(event.run)],
        (run) =>
          run && {
            ...run,
            loads: run.loads.map((load) =>
              load.load === event.load && (load.status === "queued" || load.status === "running")
                ? { ...load, phase: event.phase, waitingFor: event.waitingFor, phases: event.phases, status: "running" }
                : load,
            ),
          },
      );
      client.setQueryData<Dock>(
        ["dock"],
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
      client.invalidateQueries({ queryKey: ["lines", event.run] });
      break;
    case "line":
      client.invalidateQueries({ queryKey: ["lines", event.run] });
      break;
    case "run":
      for (const key of ["runs", "dock", "ledger", "pipelines", "proofs", "warehouse", "preview"])
        client.invalidateQueries({ queryKey: [key] });
      client.invalidateQueries({ queryKey: ["lines", event.run] });
      break;
    case "changed":
      for (const key of [event.what, "ledger", "dock"]) client.invalidateQueries({ queryKey: [key] });
  }
}

/** Keeps what the pages show in step with what the server tells; when it is back, everything is asked anew. */
export function useEvents(): void {
  const client = useQueryClient();
  useEffect(() => {
    let first = true;
    const left = listen((heard) => {
      setAway(heard.kind === "away");
      if (heard.kind === "event") take(client, heard.event);
      // The first page has just asked for all that it shows.
      if (heard.kind === "there" && !first) client.invalidateQueries();
      if (heard.kind !== "event") first = false;
    });
    return left;
  }, [client]);
}
