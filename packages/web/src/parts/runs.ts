import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { RunView } from "@undercoat/core/api/api";
import type { Given } from "@undercoat/core/parameter/resolve";
import type { RunKind, Scope } from "@undercoat/core/run/run";
import { useNavigate } from "react-router";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";

export interface RunOrder {
  pipeline: string;
  kind?: RunKind;
  loads?: string[];
  scope?: Scope;
  rows?: boolean;
  reason?: string;
  /** the values it runs with; the defaults where absent */
  given?: Given | null;
}

/** Where a run's page leads on to by itself when the run has ended: to the rows of its proof. */
export const thenRows = "then=rows";

/** Starts runs; where it is one, its page opens, else their list. A search for rows leads on to them. */
export function useRuns() {
  const navigate = useNavigate();
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (orders: RunOrder[]) => {
      const runs: RunView[] = [];
      for (const { pipeline, given, ...order } of orders)
        runs.push(
          await answer(
            server.pipelines[":name"].run.$post({
              ...path({ name: pipeline }),
              json: { ...order, given: given ?? undefined },
            }),
          ),
        );
      return runs;
    },
    onSuccess: (runs, orders) => {
      for (const run of runs) client.setQueryData(queries.run(run.id).queryKey, run);
      refresh(client, queries.dock().queryKey);
      if (runs.length > 1) navigate("/runs");
      else navigate(`/runs/${runs[0]?.id}${orders[0]?.rows ? `?${thenRows}` : ""}`);
    },
  });
}

/** Starts a run, and opens its page. */
export function useRun() {
  const runs = useRuns();
  return { ...runs, mutate: (order: RunOrder) => runs.mutate([order]) };
}

/** Starts a run for each of several sets of values, and opens what they come to together. */
export function useRunSets() {
  const navigate = useNavigate();
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ pipeline, sets, ...order }: Omit<RunOrder, "given"> & { sets: string[] }) =>
      answer(
        server.pipelines[":name"].runs.$post({
          ...path({ name: pipeline }),
          json: { ...order, givens: sets.map((set) => ({ set })) },
        }),
      ),
    onSuccess: (runs) => {
      refresh(client, queries.dock().queryKey);
      navigate(runs[0]?.heading == null ? `/runs/${runs[0]?.id}` : `/runs?heading=${runs[0].heading}`);
    },
  });
}
