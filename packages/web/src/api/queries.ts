import { infiniteQueryOptions, type QueryClient, queryOptions } from "@tanstack/react-query";
import type {
  BothColumns,
  ConnectionView,
  Dock,
  Event,
  Finding,
  Ledger,
  Me,
  PipelineSummary,
  PipelineView,
  Preview,
  ProofSummary,
  ProofView,
  RejectedView,
  RunLine,
  RunSummary,
  RunView,
  SuggestedLoad,
  TokenSummary,
  User,
  WarehouseView,
} from "@undercoat/core/api/api";
import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import type { AsOf, Between, KeptHistory, Lifeline } from "@undercoat/core/history/shape";
import type { Load, Pipeline, Schedule } from "@undercoat/core/pipeline/pipeline";
import type { Row } from "../connections/rows.ts";
import { api, withQuery } from "./client.ts";

/** A table of a connection. */
export interface TablePlace {
  connection: string;
  schema: string;
  table: string;
}

/** A table that keeps a history. */
export interface HistoryPlace {
  connection: string;
  /** `schema.table` */
  target: string;
}

const historyPath = ({ connection, target }: HistoryPlace, what: string) =>
  `/history/${encodeURIComponent(connection)}/${encodeURIComponent(target)}/${what}`;

const tablePath = ({ connection, schema, table }: TablePlace, what: string, limit?: number) =>
  withQuery(`/connections/${connection}/${what}`, { schema, table, limit });

/** How many of a list that goes on come in one answer. */
const pageSize = { runs: 100, rejected: 200 };

/** Counts and rate of a load that is reading, as last told. */
export interface Progress {
  load: string;
  phase: string;
  rows: string;
  bytes: number;
  rate: number;
  waitingFor: string | null;
}

/** All that the pages ask the server for: each thing's key and how it is asked, once. */
export const queries = {
  me: () => queryOptions({ queryKey: ["me"], queryFn: () => api.get<Me>("/session") }),
  users: () => queryOptions({ queryKey: ["users"], queryFn: () => api.get<User[]>("/users") }),
  tokens: () => queryOptions({ queryKey: ["tokens"], queryFn: () => api.get<TokenSummary[]>("/tokens") }),

  ledger: (zone: string) =>
    queryOptions({
      queryKey: ["ledger", zone],
      queryFn: () => api.get<Ledger>(withQuery("/standing/ledger", { zone })),
    }),
  dock: () => queryOptions({ queryKey: ["dock"], queryFn: () => api.get<Dock>("/standing/dock") }),
  found: (wanted: string) =>
    queryOptions({
      queryKey: ["search", wanted],
      queryFn: () => api.get<Finding[]>(withQuery("/search", { q: wanted })),
      enabled: wanted.trim() !== "",
    }),

  connections: () =>
    queryOptions({ queryKey: ["connections"], queryFn: () => api.get<ConnectionView[]>("/connections") }),
  connection: (name: string) =>
    queryOptions({
      queryKey: ["connections", name],
      queryFn: () => api.get<ConnectionView>(`/connections/${name}`),
    }),
  datasets: (connection: string) =>
    queryOptions({
      queryKey: ["datasets", connection],
      queryFn: () => api.get<DatasetSummary[]>(`/connections/${connection}/datasets`),
      enabled: connection !== "",
    }),
  dataset: (place: TablePlace) =>
    queryOptions({ queryKey: ["dataset", place], queryFn: () => api.get<Dataset>(tablePath(place, "dataset")) }),
  rows: (place: TablePlace, limit?: number) =>
    queryOptions({ queryKey: ["rows", place], queryFn: () => api.get<Row[]>(tablePath(place, "rows", limit)) }),
  timeColumns: (place: TablePlace) =>
    queryOptions({ queryKey: ["time", place], queryFn: () => api.get<TimeColumn[]>(tablePath(place, "time")) }),
  histories: () =>
    queryOptions({
      queryKey: ["history"],
      queryFn: () => api.get<(KeptHistory & { connection: string })[]>("/history"),
    }),
  lifeline: (place: HistoryPlace, key: string[]) =>
    queryOptions({
      queryKey: ["history", place, "lifeline", key],
      queryFn: () => api.get<Lifeline>(withQuery(historyPath(place, "lifeline"), { key: JSON.stringify(key) })),
    }),
  asOf: (place: HistoryPlace, at: string) =>
    queryOptions({
      queryKey: ["history", place, "as-of", at],
      queryFn: () => api.get<AsOf>(withQuery(historyPath(place, "as-of"), { at })),
      retry: false,
    }),
  between: (place: HistoryPlace, from: string, to: string) =>
    queryOptions({
      queryKey: ["history", place, "between", from, to],
      queryFn: () => api.get<Between>(withQuery(historyPath(place, "between"), { from, to })),
      enabled: from !== "" && to !== "",
      retry: false,
    }),
  warehouse: () => queryOptions({ queryKey: ["warehouse"], queryFn: () => api.get<WarehouseView>("/warehouse") }),

  pipelines: () => queryOptions({ queryKey: ["pipelines"], queryFn: () => api.get<PipelineSummary[]>("/pipelines") }),
  pipeline: (name: string) =>
    queryOptions({ queryKey: ["pipelines", name], queryFn: () => api.get<PipelineView>(`/pipelines/${name}`) }),
  suggested: (asked: { connection: string; tables: string[]; schema: string }) =>
    queryOptions({
      queryKey: ["suggest", asked],
      queryFn: () => api.post<SuggestedLoad[]>("/pipelines/suggest", asked),
    }),
  /** A load of a draft, tried; a newer question ends the one before. */
  preview: (asked: { pipeline: string; load: string; definition: Pipeline; limit?: number }) =>
    queryOptions({
      queryKey: ["preview", asked.pipeline, asked.load, asked.definition.warehouse, asked.definition.loads],
      queryFn: () => api.post<Preview>("/pipelines/preview", asked),
      retry: false,
    }),
  /** The columns of both sides as they are now. */
  columns: (asked: { from: Load["from"]; warehouse: string; table: string }) =>
    queryOptions({
      queryKey: ["columns", asked],
      queryFn: () => api.post<BothColumns>("/pipelines/columns", asked),
      retry: false,
    }),
  /** The next times of a schedule. */
  times: (schedule: Schedule | null) =>
    queryOptions({
      queryKey: ["times", schedule],
      queryFn: () => api.post<string[]>("/pipelines/times", schedule),
      retry: false,
    }),

  runs: (filter: { pipeline: string; status: string; kind: string }) =>
    infiniteQueryOptions({
      queryKey: ["runs", "list", filter],
      queryFn: ({ pageParam }) => api.get<RunSummary[]>(withQuery("/runs", { ...filter, before: pageParam })),
      initialPageParam: null as number | null,
      getNextPageParam: (last: RunSummary[]) => (last.length === pageSize.runs ? (last.at(-1)?.id ?? null) : null),
    }),
  run: (id: number | string) =>
    queryOptions({ queryKey: ["runs", String(id)], queryFn: () => api.get<RunView>(`/runs/${id}`) }),
  /** What a run says. While it runs only what is new is asked for; when it has ended all of it once more. */
  lines: (client: QueryClient, run: number, live: boolean) => {
    const queryKey = ["lines", run, live];
    return queryOptions({
      queryKey,
      queryFn: async () => {
        const before = live ? (client.getQueryData<RunLine[]>(queryKey) ?? []) : [];
        const more = await api.get<RunLine[]>(withQuery(`/runs/${run}/lines`, { after: before.at(-1)?.id }));
        return [...before, ...more];
      },
    });
  },
  /** What a running load last told, by load; only events fill it. */
  progress: (run: number) =>
    queryOptions({
      queryKey: ["progress", run],
      queryFn: (): Record<string, Progress> => ({}),
      staleTime: Number.POSITIVE_INFINITY,
    }),

  proofs: (filter: { pipeline: string; load: string }) =>
    queryOptions({
      queryKey: ["proofs", filter],
      queryFn: () => api.get<ProofSummary[]>(withQuery("/proofs", filter)),
    }),
  proof: (id: string) =>
    queryOptions({ queryKey: ["proofs", "one", id], queryFn: () => api.get<ProofView>(`/proofs/${id}`) }),
  rejected: (filter: Record<string, string>) =>
    infiniteQueryOptions({
      queryKey: ["rejected", filter],
      queryFn: ({ pageParam }) => api.get<RejectedView>(withQuery("/rejected", { ...filter, offset: pageParam })),
      initialPageParam: 0,
      getNextPageParam: (last: RejectedView, pages: RejectedView[]): number | null =>
        last.rows.length >= pageSize.rejected ? pages.length * pageSize.rejected : null,
    }),
};

/** The keys of all that a run's beginning, going on and end change. */
export const standing = ["runs", "dock", "ledger", "pipelines", "proofs", "rejected", "warehouse", "history"].map(
  (key) => [key],
);

/** The first words of the keys that an event makes stale. */
export function staleBy(event: Event): unknown[][] {
  switch (event.kind) {
    case "run":
      return [...standing, ["preview"], ["lines", event.run]];
    case "line":
    case "progress":
      return [["lines", event.run]];
    case "changed":
      return [[event.what], ["ledger"], ["dock"]];
  }
}

/**
 * Asks anew for what is shown of a key, and for the rest when it is shown next. An answer that is under way may be older
 * than what was just told: where nothing is there yet that it could replace, it is asked for again once it is here.
 */
export function refresh(client: QueryClient, queryKey: readonly unknown[]): void {
  for (const query of client.getQueryCache().findAll({ queryKey, fetchStatus: "fetching" }))
    if (query.state.data === undefined)
      query.promise?.then(
        () => client.invalidateQueries({ queryKey: query.queryKey, exact: true }),
        () => undefined,
      );
  client.invalidateQueries({ queryKey });
}
