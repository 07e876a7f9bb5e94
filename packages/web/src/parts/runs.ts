import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { RunView } from "@undercoat/core/api/api";
import type { RunKind, Scope } from "@undercoat/core/run/run";
import { useNavigate } from "react-router";
import { api } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";

export interface RunOrder {
  pipeline: string;
  kind?: RunKind;
  loads?: string[];
  scope?: Scope;
  rows?: boolean;
  reason?: string;
}

/** Where a run's page leads on to by itself when the run has ended: to the rows of its proof. */
export const thenRows = "then=rows";

/** Starts a run; by default its page opens. A search for rows leads on to them. */
export function useRun(after?: (run: RunView) => void) {
  const navigate = useNavigate();
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ pipeline, ...order }: RunOrder) => api.post<RunView>(`/pipelines/${pipeline}/run`, order),
    onSuccess: (run, { rows }) => {
      client.setQueryData(queries.run(run.id).queryKey, run);
      refresh(client, queries.dock().queryKey);
      if (after) after(run);
      else navigate(`/runs/${run.id}${rows ? `?${thenRows}` : ""}`);
    },
  });
}
