import { infiniteQueryOptions, type QueryClient, queryOptions } from "@tanstack/react-query";
import type { DeliveryHeading, Event, RejectedView, RunLine, RunSummary } from "@undercoat/core/api/api";
import type { Given } from "@undercoat/core/parameter/resolve";
import type { From, Load, Pipeline, Schedule } from "@undercoat/core/pipeline/pipeline";
import { isOpen } from "@undercoat/core/run/run";
import type { Declared } from "../values/chosen.ts";
import { ApiProblem, answer, numeral, path, server } from "./client.ts";

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

const kept = server.history[":connection"][":target"];
const connection = server.connections[":name"];
const historyAt = ({ connection, target }: HistoryPlace) => path({ connection, target });
const tableAt = ({ connection, schema, table }: TablePlace) => ({
  ...path({ name: connection }),
  query: { schema, table },
});

/** How many of a list that goes on come in one answer. */
const pageSize = { runs: 100, deliveries: 100, rejected: 200 };

/** Counts and rate of a load that is reading, as last told. */
export interface Progress {
  load: string;
  phase: string;
  rows: string;
  bytes: number;
  rate: number;
  waitingFor: string | null;
}

/** This page among those that one person has open. */
const ownPage = Math.random().toString(36).slice(2);

/** All that the pages ask the server for: each thing's key and how it is asked, once. */
export const queries = {
  me: () => queryOptions({ queryKey: ["me"], queryFn: () => answer(server.session.$get()) }),
  users: () => queryOptions({ queryKey: ["users"], queryFn: () => answer(server.users.$get()) }),
  tokens: () => queryOptions({ queryKey: ["tokens"], queryFn: () => answer(server.tokens.$get()) }),

  ledger: (zone: string) =>
    queryOptions({
      queryKey: ["ledger", zone],
      queryFn: () => answer(server.standing.ledger.$get({ query: { zone } })),
    }),
  dock: () => queryOptions({ queryKey: ["dock"], queryFn: () => answer(server.standing.dock.$get()) }),
  found: (wanted: string) =>
    queryOptions({
      queryKey: ["search", wanted],
      queryFn: () => answer(server.search.$get({ query: { q: wanted } })),
      enabled: wanted.trim() !== "",
    }),

  connections: () => queryOptions({ queryKey: ["connections"], queryFn: () => answer(server.connections.$get()) }),
  connection: (name: string) =>
    queryOptions({
      queryKey: ["connections", name],
      queryFn: () => answer(connection.$get(path({ name }))),
    }),
  datasets: (source: string) =>
    queryOptions({
      queryKey: ["datasets", source],
      queryFn: () => answer(connection.datasets.$get(path({ name: source }))),
      enabled: source !== "",
    }),
  dataset: (place: TablePlace) =>
    queryOptions({ queryKey: ["dataset", place], queryFn: () => answer(connection.dataset.$get(tableAt(place))) }),
  rows: (place: TablePlace, limit?: number) =>
    queryOptions({
      queryKey: ["rows", place],
      queryFn: () => {
        const { query, ...at } = tableAt(place);
        return answer(connection.rows.$get({ ...at, query: { ...query, limit: numeral(limit) } }));
      },
    }),
  glance: (from: From) =>
    queryOptions({
      queryKey: ["glance", from],
      queryFn: () => answer(connection.glance.$post({ ...path({ name: from.connection }), json: { from } })),
      enabled: Boolean(from.connection && (from.files ?? from.path)),
      retry: false,
      placeholderData: (before) => before,
    }),
  taken: (pipeline: string, load: string) =>
    queryOptions({
      queryKey: ["taken", pipeline, load],
      queryFn: () => answer(server.files[":pipeline"][":load"].$get(path({ pipeline, load }))),
    }),
  timeColumns: (place: TablePlace) =>
    queryOptions({ queryKey: ["time", place], queryFn: () => answer(connection.time.$get(tableAt(place))) }),
  histories: () =>
    queryOptions({
      queryKey: ["history"],
      queryFn: () => answer(server.history.$get()),
    }),
  lifeline: (place: HistoryPlace, key: string[]) =>
    queryOptions({
      queryKey: ["history", place, "lifeline", key],
      queryFn: () => answer(kept.lifeline.$get({ ...historyAt(place), query: { key: JSON.stringify(key) } })),
    }),
  asOf: (place: HistoryPlace, at: string) =>
    queryOptions({
      queryKey: ["history", place, "as-of", at],
      queryFn: () => answer(kept["as-of"].$get({ ...historyAt(place), query: { at } })),
      retry: false,
    }),
  between: (place: HistoryPlace, from: string, to: string) =>
    queryOptions({
      queryKey: ["history", place, "between", from, to],
      queryFn: () => answer(kept.between.$get({ ...historyAt(place), query: { from, to } })),
      enabled: from !== "" && to !== "",
      retry: false,
    }),
  warehouse: () => queryOptions({ queryKey: ["warehouse"], queryFn: () => answer(server.warehouse.$get()) }),

  pipelines: () => queryOptions({ queryKey: ["pipelines"], queryFn: () => answer(server.pipelines.$get()) }),
  pipeline: (name: string) =>
    queryOptions({
      queryKey: ["pipelines", name],
      queryFn: () => answer(server.pipelines[":name"].$get(path({ name }))),
    }),
  suggested: (asked: { connection: string; tables: string[]; schema: string }) =>
    queryOptions({
      queryKey: ["suggest", asked],
      queryFn: () => answer(server.pipelines.suggest.$post({ json: asked })),
    }),
  /** A load of a draft, tried; a newer question of the same part of this page ends the one before. */
  preview: (asked: { pipeline: string; load: string; definition: Pipeline; limit?: number; given?: Given }) =>
    queryOptions({
      queryKey: [
        "preview",
        asked.pipeline,
        asked.load,
        { ...asked.definition, title: "", schedule: undefined },
        asked.given ?? null,
      ],
      queryFn: () =>
        answer(server.pipelines.preview.$post({ json: { ...asked, look: `${ownPage} ${asked.limit ?? "all"}` } })),
      // One that was overtaken by an earlier look, which arrived behind it, is asked for again.
      retry: (failures, error) => failures < 3 && error instanceof ApiProblem && error.problem.status === 409,
      retryDelay: 200,
    }),
  /** The columns of both sides as they are now. */
  columns: (asked: { from: Load["from"]; warehouse: string; table: string; declared?: Declared; given?: Given }) =>
    queryOptions({
      queryKey: ["columns", asked],
      queryFn: () => answer(server.pipelines.columns.$post({ json: asked })),
      retry: false,
    }),
  /** What a definition comes to with some values. */
  resolved: (asked: { pipeline: string; definition: Pipeline; given: Given }) =>
    queryOptions({
      queryKey: ["resolved", asked],
      queryFn: () =>
        answer(
          server.pipelines[":name"].resolve.$post({
            ...path({ name: asked.pipeline }),
            json: { definition: asked.definition, given: asked.given },
          }),
        ),
      retry: false,
    }),
  schedules: () =>
    queryOptions({ queryKey: ["pipelines", "", "schedules"], queryFn: () => answer(server.schedules.$get()) }),
  /** The latest backfills of a pipeline. */
  backfills: (pipeline: string) =>
    queryOptions({
      queryKey: ["pipelines", pipeline, "backfills"],
      queryFn: () => answer(server.backfills.$get({ query: { pipeline } })),
    }),
  backfill: (id: string) =>
    queryOptions({
      queryKey: ["pipelines", "", "backfills", id],
      queryFn: () => answer(server.backfills[":id"].$get(path({ id }))),
    }),
  versions: (pipeline: string) =>
    queryOptions({
      queryKey: ["pipelines", pipeline, "versions"],
      queryFn: () => answer(server.pipelines[":name"].versions.$get(path({ name: pipeline }))),
    }),
  version: (pipeline: string, number: number) =>
    queryOptions({
      queryKey: ["version", pipeline, number],
      queryFn: () =>
        answer(server.pipelines[":name"].versions[":number"].$get(path({ name: pipeline, number: String(number) }))),
    }),
  draft: (pipeline: string) =>
    queryOptions({
      queryKey: ["draft", pipeline],
      queryFn: () => answer(server.pipelines[":name"].draft.$get(path({ name: pipeline }))),
    }),
  /** What saving a definition would bring about. */
  effects: (pipeline: string, definition: Pipeline) =>
    queryOptions({
      queryKey: ["effects", pipeline, definition],
      queryFn: () =>
        answer(server.pipelines[":name"].effects.$post({ ...path({ name: pipeline }), json: { definition } })),
      retry: false,
    }),
  /** The next times of a schedule. */
  times: (schedule: Schedule | null) =>
    queryOptions({
      queryKey: ["times", schedule],
      queryFn: () => answer(server.pipelines.times.$post({ json: schedule as Schedule })),
      retry: false,
    }),

  workers: () => queryOptions({ queryKey: ["workers"], queryFn: () => answer(server.workers.$get()) }),
  messages: () => queryOptions({ queryKey: ["messages"], queryFn: () => answer(server.messages.$get()) }),
  mail: () => queryOptions({ queryKey: ["messages", "", "mail"], queryFn: () => answer(server.mail.$get()) }),
  deliveries: (filter: { message: string }) =>
    infiniteQueryOptions({
      queryKey: ["messages", "", "deliveries", filter],
      queryFn: ({ pageParam }) => answer(server.deliveries.$get({ query: { ...filter, before: numeral(pageParam) } })),
      initialPageParam: null as number | null,
      getNextPageParam: (last: DeliveryHeading[]) =>
        last.length === pageSize.deliveries ? (last.at(-1)?.id ?? null) : null,
    }),
  delivery: (id: string) =>
    queryOptions({
      queryKey: ["messages", "", "delivery", id],
      queryFn: () => answer(server.deliveries[":id"].$get(path({ id }))),
    }),
  /** What the demo's stand-ins were given. */
  arrived: () => queryOptions({ queryKey: ["arrived"], queryFn: () => answer(server.demo.arrived.$get()) }),

  runs: (filter: { pipeline: string; status: string; kind: string; heading: string }) =>
    infiniteQueryOptions({
      queryKey: ["runs", "list", filter],
      queryFn: ({ pageParam }) => answer(server.runs.$get({ query: { ...filter, before: numeral(pageParam) } })),
      initialPageParam: null as number | null,
      getNextPageParam: (last: RunSummary[]) => (last.length === pageSize.runs ? (last.at(-1)?.id ?? null) : null),
    }),
  run: (id: number | string) =>
    queryOptions({
      queryKey: ["runs", String(id)],
      queryFn: () => answer(server.runs[":id"].$get(path({ id: String(id) }))),
    }),
  /** What a run says. While it runs only what is new is asked for; when it has ended all of it once more. */
  lines: (client: QueryClient, run: number, live: boolean) => {
    const queryKey = ["lines", run, live];
    return queryOptions({
      queryKey,
      queryFn: async () => {
        const before = live ? (client.getQueryData<RunLine[]>(queryKey) ?? []) : [];
        const more = await answer(
          server.runs[":id"].lines.$get({ ...path({ id: String(run) }), query: { after: numeral(before.at(-1)?.id) } }),
        );
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

  proofs: (filter: { pipeline: string; load: string; line?: string }) =>
    queryOptions({
      queryKey: ["proofs", filter],
      queryFn: () => answer(server.proofs.$get({ query: filter })),
    }),
  proof: (id: string) =>
    queryOptions({ queryKey: ["proofs", "one", id], queryFn: () => answer(server.proofs[":id"].$get(path({ id }))) }),
  rejected: (filter: Record<string, string>) =>
    infiniteQueryOptions({
      queryKey: ["rejected", filter],
      queryFn: ({ pageParam }) => answer(server.rejected.$get({ query: { ...filter, offset: numeral(pageParam) } })),
      initialPageParam: 0,
      getNextPageParam: (last: RejectedView, pages: RejectedView[]): number | null =>
        last.rows.length >= pageSize.rejected ? pages.length * pageSize.rejected : null,
    }),
};

/** The keys of all that a run's beginning, going on and end change. */
export const standing = [
  "runs",
  "dock",
  "ledger",
  "pipelines",
  "proofs",
  "rejected",
  "warehouse",
  "history",
  "workers",
].map((key) => [key]);

/** The first words of the keys that an event makes stale. */
export function staleBy(event: Event): unknown[][] {
  switch (event.kind) {
    case "run":
      // What a look shows of the warehouse is another once a run of the pipeline has ended.
      return [...standing, ...(isOpen(event.status) ? [] : [["preview", event.pipeline]]), ["lines", event.run]];
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
