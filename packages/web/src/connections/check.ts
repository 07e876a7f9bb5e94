import { useState } from "react";
import { told } from "../api/told.ts";

/** One step of a check, as the server tells it. */
export interface CheckStep {
  step: string;
  outcome: "passed" | "failed" | "skipped";
  fact: string;
  milliseconds: number;
  failure: { message: string; detail?: string; hint?: string } | null;
  /** a setting that would let the step pass, once somebody accepts it */
  offer?: { setting: string; value: string };
}

/** Checks a connection's settings; steps appear as they end. */
export function useCheck() {
  const [steps, setSteps] = useState<CheckStep[]>([]);
  const [state, setState] = useState<"idle" | "checking" | "passed" | "failed">("idle");
  const [error, setError] = useState<unknown>(null);
  const check = async (settings: object) => {
    setSteps([]);
    setError(null);
    setState("checking");
    try {
      for await (const { event, data } of told("/api/connections/check", settings)) {
        if (event === "step") setSteps((before) => [...before, data as CheckStep]);
        if (event === "done") setState((data as { passed: boolean }).passed ? "passed" : "failed");
      }
    } catch (failed) {
      setError(failed);
      setState("failed");
    }
  };
  return { steps, state, error, check };
}
