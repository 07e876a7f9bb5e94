import type { RunView } from "@undercoat/core/api/api";
import { answer, path } from "@undercoat/core/api/client";
import { rehearsalWords } from "@undercoat/core/run/rehearsal";
import type { RunKind, Scope } from "@undercoat/core/run/run";
import { type Client, CommandError } from "./client.ts";
import { type GivenOptions, givensOf } from "./given.ts";

export interface RunOptions extends GivenOptions {
  load?: string[];
  from?: string;
  to?: string;
  rows?: boolean;
  whole?: boolean;
  first?: string;
  json?: boolean;
}

const endStatuses = new Set(["finished", "failed", "cancelled"]);

/** How often a waiting command asks how far something is, in milliseconds. */
export const pollEvery = 100;

function scopeOf({ from, to, whole }: RunOptions): Scope {
  if (whole && (from !== undefined || to !== undefined))
    throw new CommandError("--whole and an interval exclude each other.", 2);
  if (whole) return { kind: "whole" };
  if (from === undefined && to === undefined) return { kind: "due" };
  if (from === undefined || to === undefined) throw new CommandError("An interval needs both --from and --to.", 2);
  return { kind: "interval", from, to };
}

function firstRows({ first }: RunOptions): number | undefined {
  if (first === undefined) return undefined;
  if (!/^[1-9]\d{0,8}$/.test(first)) throw new CommandError(`--first takes a number of rows, not ${first}.`, 2);
  return Number(first);
}

/** Starts a run for each set of values and waits for their end, telling progress on standard error. */
async function runAndWait(client: Client, pipeline: string, kind: RunKind, options: RunOptions): Promise<RunView[]> {
  const givens = givensOf(options);
  const order = {
    kind,
    scope: scopeOf(options),
    loads: options.load,
    rows: options.rows ?? false,
    limit: firstRows(options),
    reason: "on the command line",
  };
  const at = path({ name: pipeline });
  const [first] = givens;
  const started =
    first && givens.length === 1
      ? [await answer(client.pipelines[":name"].run.$post({ ...at, json: { ...order, given: first } }))]
      : await answer(client.pipelines[":name"].runs.$post({ ...at, json: { ...order, givens } }));
  return Promise.all(started.map(({ id }) => ended(client, id)));
}

/** Waits for a run's end. */
async function ended(client: Client, id: number): Promise<RunView> {
  let told = "";
  for (;;) {
    const run = await answer(client.runs[":id"].$get(path({ id: String(id) })));
    const at = run.loads
      .map((load) => `${load.load} ${load.waitingFor ? `waits for ${load.waitingFor}` : (load.phase ?? load.status)}`)
      .join(", ");
    if (at !== told) process.stderr.write(`run ${run.id}${run.set === null ? "" : ` (${run.set})`}: ${at}\n`);
    told = at;
    if (endStatuses.has(run.status)) return run;
    await new Promise((resolve) => setTimeout(resolve, pollEvery));
  }
}

/** Several runs as `--json` prints them; one is printed as it is. */
const several = <T>(documents: T[]) => JSON.stringify(documents.length === 1 ? documents[0] : { runs: documents });

/** The worst of some exit statuses: one that failed before one that disagrees. */
export const worst = (statuses: number[]) => (statuses.includes(1) ? 1 : Math.max(...statuses));

/** What a run is called among several. */
const heading = (run: RunView, runs: RunView[]) =>
  runs.length === 1
    ? ""
    : `${
        run.set ??
        (Object.entries(run.values)
          .map(([name, { text }]) => `${name} ${text}`)
          .join(", ") ||
          "defaults")
      }: `;

const seconds = (run: RunView) =>
  run.startedAt && run.finishedAt ? Math.round((Date.parse(run.finishedAt) - Date.parse(run.startedAt)) / 100) / 10 : 0;

/** What a run ran with, as `--json` prints it. */
const valuesOf = ({ values }: RunView) =>
  Object.fromEntries(Object.entries(values).map(([name, { text }]) => [name, text]));

/** A load's proof as `--json` prints it. */
function proofPart({ verdict, depth, how, cells, figures }: RunView["loads"][number]) {
  return {
    verdict: verdict ?? "unproved",
    depth: depth ?? "figures",
    how: how ?? "source",
    cells: cells?.rows ?? null,
    figures,
  };
}

/** A run as `--json` prints it. */
export function runDocument(run: RunView) {
  return {
    run: run.id,
    pipeline: run.pipeline,
    status: run.status,
    seconds: seconds(run),
    values: valuesOf(run),
    loads: run.loads.map((load) => ({
      load: load.load,
      into: load.into,
      status: load.status,
      ...load.tally,
      watermark: load.watermark,
      proof: proofPart(load),
      error: load.failure,
    })),
  };
}

/** A rehearsal as `--json` prints it: the figures of a run, and beside them what they rest on. */
export function rehearsalDocument(run: RunView) {
  const document = runDocument(run);
  return {
    ...document,
    loads: document.loads.map((load, at) => {
      const { rehearsal } = run.loads[at] ?? {};
      if (!rehearsal) return load;
      const { limit, changes, findings, columns, added, altered, rejected, gone, key, marks } = rehearsal;
      const row = (values: (string | null)[] | null) => (values ? named(columns, values) : null);
      const examples = {
        new: added.map((example) => row(example.new)),
        changed: altered.map((example) => ({ source: row(example.new), warehouse: row(example.held) })),
        rejected,
        deleted: gone.map((values) => named(key, values)),
      };
      return {
        ...load,
        firstRows: limit,
        ddl: changes.map((change) => change.sql),
        reasons: findings.reasons,
        drift: findings.drift,
        examples,
        ...(marks ? { marks: marks.words } : {}),
      };
    }),
  };
}

export async function rehearseCommand(client: Client, pipeline: string, options: RunOptions): Promise<number> {
  const runs = await runAndWait(client, pipeline, "rehearse", options);
  if (options.json) console.log(several(runs.map(rehearsalDocument)));
  else {
    for (const run of runs)
      for (const { load, into, rehearsal, failure } of run.loads) {
        console.log(
          heading(run, runs) +
            (failure
              ? `${load}: would fail. ${[failure.message, failure.detail, failure.hint].filter(Boolean).join(". ")}`
              : `${into}: a run ${rehearsal ? rehearsalWords(rehearsal, (text) => text) : "does nothing"}${rehearsal?.limit ? ` of the first ${rehearsal.limit} rows` : ""}`),
        );
        for (const { reason, rows } of rehearsal?.findings.reasons ?? []) console.log(`  ${rows} rejected: ${reason}`);
        for (const { sql } of rehearsal?.changes ?? []) console.log(`  ${sql}`);
        for (const words of rehearsal?.marks?.words ?? []) console.log(`  would tell: ${words}`);
      }
    console.log("Nothing was written.");
  }
  return worst(runs.map((run) => (run.status === "finished" ? 0 : 1)));
}

function exitStatus(run: RunView): number {
  if (run.status !== "finished") return 1;
  return run.loads.some((load) => load.verdict === "disagrees") ? 3 : 0;
}

export async function runCommand(client: Client, pipeline: string, options: RunOptions): Promise<number> {
  const runs = await runAndWait(client, pipeline, "load", options);
  if (options.json) console.log(several(runs.map(runDocument)));
  else
    for (const run of runs) {
      for (const { load, into, tally, verdict, depth, cells, failure } of run.loads)
        console.log(
          failure
            ? `${load}: failed. ${[failure.message, failure.detail, failure.hint].filter(Boolean).join(". ")}`
            : `${into}: ${tally.read} read = ${tally.new} new + ${tally.changed} changed + ${tally.same} same + ${tally.rejected} rejected${tally.deleted === "0" ? "" : `, ${tally.deleted} deleted`}; ${verdict ?? "unproved"}${depth === "cells" ? `, every cell of ${cells?.rows} rows${cells?.of === "read" ? " that were read" : ""} compared` : ""}`,
        );
      console.log(`${heading(run, runs)}run ${run.id} ${run.status} in ${seconds(run)} s`);
    }
  return worst(runs.map(exitStatus));
}

/** A key's or row's values under their columns' names. */
function named(columns: string[], values: (string | null)[]): Record<string, string | null> {
  return Object.fromEntries(columns.map((column, at) => [column, values[at] ?? null]));
}

async function proofDocument(client: Client, load: RunView["loads"][number], withRows: boolean) {
  const base = { load: load.load, into: load.into, status: load.status, proof: proofPart(load), error: load.failure };
  if (load.proof === null) return withRows ? { ...base, slices: [], rows: null } : base;
  if (!withRows) return base;
  const proof = await answer(client.proofs[":id"].$get(path({ id: String(load.proof) })));
  const rows = proof.rows;
  const columns = rows?.columns ?? [];
  const key = rows?.key.length ? rows.key : columns;
  const of = (kind: string) => (rows?.rows ?? []).filter((row) => row.kind === kind);
  return {
    ...base,
    slices: proof.sliceFigures.map(({ slice, verdict, depth, figures }) => ({ slice, verdict, depth, figures })),
    rows: {
      missing: of("missing").map((row) => named(key, row.key)),
      extra: of("extra").map((row) => named(key, row.key)),
      different: of("different").map((row) => ({
        key: named(key, row.key),
        columns: Object.fromEntries(
          row.cells.map((at) => [
            columns[at] ?? "",
            { source: row.source?.[at] ?? null, warehouse: row.warehouse?.[at] ?? null },
          ]),
        ),
      })),
      counts: { missing: rows?.missing ?? 0, extra: rows?.extra ?? 0, different: rows?.different ?? 0 },
      complete: rows?.complete ?? true,
    },
  };
}

export async function proveCommand(client: Client, pipeline: string, options: RunOptions): Promise<number> {
  const runs = await runAndWait(client, pipeline, "prove", options);
  const documents = await Promise.all(
    runs.map(async (run) => ({
      run: run.id,
      pipeline: run.pipeline,
      status: run.status,
      seconds: seconds(run),
      values: valuesOf(run),
      loads: await Promise.all(run.loads.map((load) => proofDocument(client, load, options.rows ?? false))),
    })),
  );
  if (options.json) console.log(several(documents));
  else
    for (const [number, run] of runs.entries())
      for (const [at, load] of run.loads.entries()) {
        const { rows } = (documents[number]?.loads[at] ?? {}) as {
          rows?: { counts: { missing: number; extra: number; different: number } } | null;
        };
        const told = rows
          ? `; ${rows.counts.missing} missing, ${rows.counts.extra} only in the warehouse, ${rows.counts.different} different`
          : "";
        const slices = load.slices ? `, ${load.slices.agreeing} of ${load.slices.all} slices agree` : "";
        console.log(
          heading(run, runs) +
            (load.failure
              ? `${load.into}: ${load.failure.message}`
              : `${load.into}: ${load.verdict}, ${load.depth === "cells" ? "every cell compared" : "by its figures"}${slices}${told}`),
        );
      }
  return worst(runs.map(exitStatus));
}
