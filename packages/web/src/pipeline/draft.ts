import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useCallback, useEffect, useState } from "react";

/** A pipeline as it is being changed: what is saved, the steps since, and the way back. */
export interface Draft {
  definition: Pipeline;
  changed: boolean;
  steps: number;
  change: (next: Pipeline) => void;
  changeLoad: (name: string, next: Load) => void;
  undo: () => void;
  discard: () => void;
}

interface Kept {
  base: string;
  steps: Pipeline[];
}

const place = (name: string) => `undercoat draft ${name}`;

function kept(name: string, base: string): Pipeline[] {
  try {
    const found = JSON.parse(sessionStorage.getItem(place(name)) ?? "null") as Kept | null;
    return found && found.base === base ? found.steps : [];
  } catch {
    return [];
  }
}

/** Keeps unsaved changes in the browser, so that leaving the page loses nothing, with every step undoable. */
export function useDraft(name: string, saved: Pipeline, version: string): Draft {
  const [steps, setSteps] = useState<Pipeline[]>(() => kept(name, version));
  useEffect(() => {
    if (steps.length) sessionStorage.setItem(place(name), JSON.stringify({ base: version, steps } satisfies Kept));
    else sessionStorage.removeItem(place(name));
  }, [name, version, steps]);
  const definition = steps.at(-1) ?? saved;
  const change = useCallback((next: Pipeline) => setSteps((before) => [...before, next]), []);
  return {
    definition,
    changed: JSON.stringify(definition) !== JSON.stringify(saved),
    steps: steps.length,
    change,
    changeLoad: (load, next) => change({ ...definition, loads: { ...definition.loads, [load]: next } }),
    undo: () => setSteps((before) => before.slice(0, -1)),
    discard: () => setSteps([]),
  };
}
