import type { Phase, PhaseTime } from "@undercoat/core/run/run";

/** What a load tells while it works. */
export interface LoadReport {
  line(message: string, sql?: string): void;
  phase(phase: Phase): void;
  /** rows and bytes taken in so far */
  progress(rows: string, bytes: number): void;
  /** the run that holds the target, or the session that keeps a table to itself; null when the wait is over */
  waiting(holder: string | null): void;
}

/** Tells whom a load waits for, on the page and in its lines. */
export function tellWaiting(report: LoadReport): (holder: string | null) => void {
  return (holder) => {
    const words = holder?.replace(/^undercoat /, "") ?? null;
    report.waiting(words);
    if (words) report.line(`waiting for ${words}`);
  };
}

export interface PhaseClock {
  start(phase: Phase): void;
  times(): PhaseTime[];
}

/** Clocks the phases of a load, in milliseconds since it was made. */
export function phaseClock(report: LoadReport): PhaseClock {
  const origin = performance.now();
  const now = () => Math.round((performance.now() - origin) * 10) / 10;
  const times: PhaseTime[] = [];
  const end = () => {
    const open = times.at(-1);
    if (open) open.to = now();
  };
  return {
    start(phase) {
      end();
      times.push({ phase, from: now(), to: now() });
      report.phase(phase);
    },
    times() {
      end();
      return times;
    },
  };
}
