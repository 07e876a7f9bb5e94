import type { LoadReport } from "@undercoat/engine/load/load";

/** Hears a load's reports and says nothing. */
export const quiet: LoadReport = {
  line: () => undefined,
  phase: () => undefined,
  progress: () => undefined,
  waiting: () => undefined,
};
