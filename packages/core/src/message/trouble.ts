import type { Verdict } from "../proof/verdict.ts";
import { driftWords } from "../run/drift.ts";
import type { Failure, Findings, RunKind, RunStatus, Scope, Tally } from "../run/run.ts";
import type { Message, Occasion } from "./message.ts";

/** What can be wrong with a load for a while; `proof` is a proof that could not be made. */
export type TroubleKind = "failed" | "proof" | "disagrees" | "rejected" | "late" | "drift";

/** Something that is wrong with a load, or with its pipeline where the load is ''. */
export interface Trouble {
  pipeline: string;
  load: string;
  /** the set of values; '' for none */
  line: string;
  kind: TroubleKind;
  /** in a sentence, without its end */
  says: string;
}

/** A load of a run that has ended. */
export interface EndedLoad {
  load: string;
  line: string;
  into: string;
  status: RunStatus;
  tally: Tally;
  verdict: Verdict | null;
  failure: Failure | null;
  findings: Findings | null;
  /** some slice of the load's table disagrees, by this run or by an earlier one */
  disagreeing: boolean;
}

/** A run that has ended, with its loads. */
export interface EndedRun {
  pipeline: string;
  kind: RunKind;
  scope: Scope;
  loads: EndedLoad[];
}

const occasionOf: Record<TroubleKind, Occasion> = {
  failed: "failed",
  proof: "failed",
  disagrees: "disagrees",
  rejected: "rejected",
  late: "late",
  drift: "drift",
};

/** True where a message tells of such troubles of a pipeline. */
export const tellsOf = ({ on, pipelines }: Message, pipeline: string, kind: TroubleKind): boolean =>
  on.includes(occasionOf[kind]) && (pipelines?.includes(pipeline) ?? true);

/** What a load's end says of one kind of trouble: it is in it, it is free of it, or nothing. */
type Finding = { kind: TroubleKind; says: string | null };

function findingsOf({ kind, scope }: EndedRun, load: EndedLoad, over: number): Finding[] {
  const { status, tally, verdict, failure, findings, disagreeing } = load;
  const target = load.line ? `${load.into} (${load.line})` : load.into;
  if (status === "failed")
    return [
      kind === "prove"
        ? { kind: "proof", says: `${target} could not be proved: ${failure?.message}` }
        : { kind: "failed", says: `${target} failed: ${failure?.message}` },
    ];
  if (status !== "finished") return [];
  const told: Finding[] = [
    { kind: "proof", says: null },
    ...(verdict === "disagrees"
      ? [{ kind: "disagrees" as const, says: `${target} disagrees with its source` }]
      : disagreeing
        ? []
        : [{ kind: "disagrees" as const, says: null }]),
  ];
  if (kind === "prove") return told;
  told.push({ kind: "failed", says: null });
  // A slice or some keys say nothing of what the others reject.
  const whole = ["due", "whole", "rejected"].includes(scope.kind);
  if (BigInt(tally.rejected) > BigInt(over))
    told.push({ kind: "rejected", says: `${target} rejected ${tally.rejected} of ${tally.read} rows` });
  else if (whole) told.push({ kind: "rejected", says: null });
  const drift = findings?.drift ?? [];
  if (drift.length) told.push({ kind: "drift", says: `${target}: ${drift.map(driftWords).join("; ")}` });
  else if (whole) told.push({ kind: "drift", says: null });
  return told;
}

const same = (a: Omit<Trouble, "says">, b: Omit<Trouble, "says">) =>
  a.pipeline === b.pipeline && a.load === b.load && a.line === b.line && a.kind === b.kind;

/** What changes about a message's open troubles. */
export interface TroubleChange {
  /** open now, of what was not or was otherwise */
  opened: Trouble[];
  /** open no more */
  closed: Trouble[];
  /** those of `opened` to tell of: what is told already for another load or set in the same words is not told again */
  began: Trouble[];
  /** those of `closed` to tell of: what still is so for another load or set is not over */
  ended: Trouble[];
}

/** What makes two troubles one to whoever is told: the words of a failure, whoever has it; else whose load or set it is of. */
function gist({ pipeline, load, line, kind, says }: Trouble): string {
  if (kind === "failed" || kind === "proof")
    return JSON.stringify([pipeline, kind, says.replace(/^.*? (?=failed: |could not)/, "")]);
  // How many rows are rejected is another number each time, and the same trouble.
  return JSON.stringify([pipeline, kind, load, line, kind === "rejected" ? "" : says]);
}

function changeOf(
  open: readonly Trouble[],
  into: readonly Trouble[],
  free: readonly Omit<Trouble, "says">[],
): TroubleChange {
  const opened = into.filter((one) => !open.some((other) => same(one, other) && one.says === other.says));
  const closed = open.filter((one) => free.some((other) => same(one, other)));
  const kept = open.filter((one) => !closed.includes(one) && !opened.some((other) => same(one, other)));
  const known = new Set(open.map(gist));
  const left = new Set([...kept, ...opened].map(gist));
  return {
    opened,
    closed,
    began: firstOf(opened.filter((one) => !known.has(gist(one)))),
    ended: firstOf(closed.filter((one) => !left.has(gist(one)))),
  };
}

/** One of each gist. */
function firstOf(troubles: Trouble[]): Trouble[] {
  const seen = new Set<string>();
  return troubles.filter((one) => !seen.has(gist(one)) && seen.add(gist(one)));
}

/** What a run's end changes about a message's open troubles of the pipeline. */
export function afterRun(message: Message, open: readonly Trouble[], run: EndedRun): TroubleChange {
  const found = run.loads.flatMap((load) =>
    findingsOf(run, load, message.over ?? 0)
      .filter(({ kind }) => tellsOf(message, run.pipeline, kind))
      .map((finding) => ({ ...finding, pipeline: run.pipeline, load: load.load, line: load.line })),
  );
  return changeOf(
    open,
    found.flatMap(({ says, ...rest }) => (says === null ? [] : [{ ...rest, says }])),
    found.filter(({ says }) => says === null),
  );
}

/** What changes where a pipeline is late, said in `says`, or is not, null. */
export function afterLook(open: readonly Trouble[], pipeline: string, says: string | null): TroubleChange {
  const late = { pipeline, load: "", line: "", kind: "late" as const };
  return says === null ? changeOf(open, [], [late]) : changeOf(open, [{ ...late, says }], []);
}
