import type { RunKind, RunStatus, Tally } from "../run/run.ts";
import type { Trouble } from "./trouble.ts";

/** What a delivery is about. */
export type DeliveryKind = "trouble.began" | "trouble.ended" | "run.finished" | "test";

/** What is told, to a program as it stands and to a person in sentences. */
export interface Delivery {
  /** by the Standard Webhooks specification: what it is, when it was so, and all else under `data` */
  type: DeliveryKind;
  timestamp: string;
  data: {
    pipeline: string;
    title: string;
    /** where the pipeline is looked at */
    url: string;
    troubles: Pick<Trouble, "load" | "line" | "kind" | "says">[];
    run: {
      id: number;
      kind: RunKind;
      status: RunStatus;
      set: string | null;
      url: string;
      loads: {
        load: string;
        into: string;
        status: RunStatus;
        tally: Tally;
        watermark: string | null;
        verdict: string | null;
        error: string | null;
      }[];
    } | null;
  };
}

/** One try to hand a delivery over. */
export interface Attempt {
  at: string;
  /** in milliseconds */
  took: number;
  /** what was asked, without secrets */
  request: { to: string; headers: Record<string, string> };
  /** what answered, shortened; `status` is HTTP's or SMTP's */
  answer: { status: number; text: string } | null;
  /** why it did not arrive */
  error: string | null;
}

/** The subject of a mail: what it is about, in one line. */
export function subjectOf({ type, data: { title, troubles, run } }: Delivery): string {
  const [first, ...more] = troubles;
  const rest = more.length ? `, and ${more.length} more` : "";
  const line = {
    "trouble.began": `${title}: ${first?.says}${rest}`,
    "trouble.ended": `${title}: over is that ${first?.says}${rest}`,
    "run.finished": `${title}: run ${run?.id} finished${run?.set ? ` (${run.set})` : ""}`,
    test: `${title}: a test`,
  }[type];
  const flat = line.replace(/\s+/g, " ");
  return flat.length > 150 ? `${flat.slice(0, 149)}…` : flat;
}

/** The text of a mail: the troubles, the tally of each load, and where to look. */
export function mailText({ type, data: { title, url, troubles, run } }: Delivery): string {
  const heading = {
    "trouble.began": "Something needs somebody:",
    "trouble.ended": "This is over:",
    "run.finished": `${title} finished.`,
    test: "This is a test. Messages about your loads arrive like this one.",
  }[type];
  const loads = (run?.loads ?? []).map(({ load, into, status, tally, verdict, error }) =>
    status === "finished" && run?.kind === "prove"
      ? `${into}: ${verdict ?? "unproved"}`
      : status === "finished"
        ? `${into}: ${tally.read} read = ${tally.new} new + ${tally.changed} changed + ${tally.same} same + ${tally.rejected} rejected${tally.deleted === "0" ? "" : `, ${tally.deleted} deleted`}; ${verdict ?? "unproved"}`
        : `${into || load}: ${status}${error ? `. ${error}` : ""}`,
  );
  return `${[
    heading,
    ...(troubles.length ? [troubles.map(({ says }) => `- ${says}`).join("\n")] : []),
    ...(run ? [`Run ${run.id}${run.set ? ` with the values ${run.set}` : ""}\n${loads.join("\n")}`] : []),
    run ? `The run: ${run.url}\nThe pipeline: ${url}` : `See: ${url}`,
  ].join("\n\n")}\n`;
}
