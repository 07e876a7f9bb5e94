import { connect } from "node:net";
import type { Failure } from "@undercoat/core/run/run";
import { failureOf } from "../failure.ts";
import { allowed, type Destination } from "../http/egress.ts";

export type StepName =
  | "folder"
  | "host key"
  | "address"
  | "port"
  | "tls"
  | "sign in"
  | "description"
  | "read"
  | "write";

/** One step of a connection's check, told as it ends. */
export interface CheckStep {
  step: StepName;
  outcome: "passed" | "failed" | "skipped";
  /** what is so: `PostgreSQL 15.18`, `9 of 9 tables can be read` */
  fact: string;
  milliseconds: number;
  failure: Failure | null;
  /** a setting that would let the step pass, where somebody accepts it */
  offer?: { setting: string; value: string };
}

/** What a step learns, or why it does not apply. */
export type StepResult = { fact: string; skipped?: boolean };

export type Step = [name: StepName, work: () => Promise<StepResult>];

/** Runs steps one after another, tells each, and stops at the first that fails. */
export async function runSteps(settings: object, steps: Step[], tell: (step: CheckStep) => void): Promise<boolean> {
  for (const [step, work] of steps) {
    const started = performance.now();
    const took = () => Math.round(performance.now() - started);
    try {
      const { fact, skipped } = await work();
      tell({ step, outcome: skipped ? "skipped" : "passed", fact, milliseconds: took(), failure: null });
    } catch (error) {
      const failure = failureOf(error, { name: "The server", ...settings });
      const { offer } = error as { offer?: CheckStep["offer"] };
      tell({
        step,
        outcome: "failed",
        fact: failure.message,
        milliseconds: took(),
        failure,
        ...(offer ? { offer } : {}),
      });
      return false;
    }
  }
  return true;
}

/** The first two steps of any networked kind: the name resolves and the port answers. */
export function networkSteps(settings: Destination): Step[] {
  return [
    [
      "address",
      async () => {
        const [address = ""] = await allowed(settings);
        return { fact: address === settings.host ? `${settings.host} is a number` : `${settings.host} is ${address}` };
      },
    ],
    [
      "port",
      () =>
        new Promise((resolve, reject) => {
          const socket = connect({ host: settings.host, port: settings.port, timeout: 5000 });
          socket.once("connect", () => {
            socket.destroy();
            resolve({ fact: `port ${settings.port} answers` });
          });
          socket.once("timeout", () => {
            socket.destroy();
            reject(Object.assign(new Error("timed out"), { code: "ETIMEDOUT" }));
          });
          socket.once("error", reject);
        }),
    ],
  ];
}
