import { useState } from "react";
import { ApiProblem } from "../api/client.ts";

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
      const response = await fetch("/api/connections/check", {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(settings),
      });
      if (!response.ok || !response.body) throw new ApiProblem(await response.json());
      const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
      let text = "";
      for (;;) {
        const { value, done } = await reader.read();
        if (done) break;
        text += value;
        const messages = text.split("\n\n");
        text = messages.pop() ?? "";
        for (const message of messages) {
          const data = JSON.parse(/^data: (.*)$/m.exec(message)?.[1] ?? "null");
          if (/^event: step$/m.test(message)) setSteps((before) => [...before, data]);
          if (/^event: done$/m.test(message)) setState(data.passed ? "passed" : "failed");
        }
      }
    } catch (failed) {
      setError(failed);
      setState("failed");
    }
  };
  return { steps, state, error, check };
}
