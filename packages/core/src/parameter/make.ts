import type { Pipeline } from "../pipeline/pipeline.ts";
import { type Constant, constantsIn } from "./scan.ts";
import { mapSlots, type Slot, slotsOf } from "./template.ts";
import type { Parameter, ParameterType } from "./value.ts";

/** Something that stands in a pipeline and could be a parameter. */
export interface Candidate {
  /** a whole name, or a constant of SQL as it is written there */
  text: string;
  kind: "connection" | "dataset" | "table" | "constant";
}

const dated = /^\d{4}-\d{2}-\d{2}$/;

/** The type that a constant's parameter has. */
function typeOf({ kind, text }: Pick<Constant, "kind" | "text">): ParameterType {
  if (kind === "number") return /^\d+$/.test(text) ? "integer" : "numeric";
  return dated.test(text) ? "date" : "text";
}

/** The constants of a slot's SQL, each as it is written there. */
export const constantsOf = ({ kind, text }: Slot): (Constant & { written: string })[] =>
  kind === "sql" || kind === "reading"
    ? constantsIn(text).map((constant) => ({ ...constant, written: text.slice(constant.from, constant.to) }))
    : [];

function nameKind({ kind, path }: Slot): Candidate["kind"] | null {
  if (kind !== "name" || path[0] === "title") return null;
  const last = path.at(-1);
  if (last === "connection" || last === "warehouse") return "connection";
  return path.includes("into") || path.includes("within") ? "table" : "dataset";
}

/** True where a slot holds a candidate: as its whole name, or among its constants. */
function holds(slot: Slot, { kind, text }: Candidate): boolean {
  return kind === "constant"
    ? constantsOf(slot).some(({ written }) => written === text)
    : nameKind(slot) === kind && slot.text === text;
}

/** Where a candidate stands in a pipeline. */
export function placesWith(pipeline: Pipeline, candidate: Candidate): Slot[] {
  return slotsOf(pipeline).filter((slot) => holds(slot, candidate));
}

/** The parameter that would stand for a candidate, with what stands there as its default. */
export function parameterFor({ kind, text }: Candidate): Parameter {
  if (kind !== "constant") return { type: kind, default: text };
  const [constant] = constantsIn(text);
  return constant ? { type: typeOf(constant), default: constant.text } : { type: "text", default: text };
}

/**
 * Puts a parameter where a candidate stands: in one place, or in every place of the pipeline. The pipeline says with the
 * default what it said before.
 * @param only the path of the one place; all places where absent
 */
export function withParameter(
  pipeline: Pipeline,
  name: string,
  candidate: Candidate,
  only?: readonly (string | number)[],
): Pipeline {
  const put = (slot: Slot): string => {
    if (!holds(slot, candidate) || (only && slot.path.join(" ") !== only.join(" "))) return slot.text;
    if (candidate.kind !== "constant") return `{${name}}`;
    return constantsOf(slot)
      .filter(({ written }) => written === candidate.text)
      .toReversed()
      .reduce((text, { from, to }) => `${text.slice(0, from)}:${name}${text.slice(to)}`, slot.text);
  };
  return {
    ...mapSlots(pipeline, put),
    parameters: { ...pipeline.parameters, [name]: parameterFor(candidate) },
  };
}
