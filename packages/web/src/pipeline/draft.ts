import { rebased } from "@undercoat/core/pipeline/changes";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useCallback, useEffect, useState } from "react";

/** A pipeline as it is being changed: what is saved, the steps since, and the way back. */
export interface Draft {
  definition: Pipeline;
  changed: boolean;
  steps: number;
  /** what was saved when the first step was taken, where something else has been saved since; else null */
  overtaken: Pipeline | null;
  /** the version that the draft goes out from */
  base: string;
  change: (next: Pipeline) => void;
  changeLoad: (name: string, next: Load) => void;
  undo: () => void;
  discard: () => void;
  /** puts the draft's changes on top of what has been saved since */
  keep: () => void;
}

interface Kept {
  /** the version that was saved when the first step was taken, and its time */
  origin: Pipeline;
  base: string;
  steps: Pipeline[];
}

const place = (name: string) => `undercoat draft ${name}`;

function kept(name: string): Kept | null {
  try {
    const found = JSON.parse(sessionStorage.getItem(place(name)) ?? "null") as Kept | null;
    return found?.steps.length && found.origin ? found : null;
  } catch {
    return null;
  }
}

/** True where the browser kept it; a full storage keeps nothing, and the draft lives as long as the page. */
function keepAside(name: string, draft: Kept | null): boolean {
  try {
    if (draft) sessionStorage.setItem(place(name), JSON.stringify(draft));
    else sessionStorage.removeItem(place(name));
    return true;
  } catch {
    return false;
  }
}

/**
 * Keeps unsaved changes in the browser, so that leaving the page loses nothing, with every step undoable. What somebody
 * else saves meanwhile does not take them away: it is told, and the draft waits for a word.
 */
export function useDraft(name: string, saved: Pipeline, version: string): Draft {
  const [draft, setDraft] = useState<Kept | null>(() => kept(name));
  useEffect(() => {
    keepAside(name, draft);
  }, [name, draft]);
  const definition = draft?.steps.at(-1) ?? saved;
  const change = useCallback(
    (next: Pipeline) =>
      setDraft((before) =>
        before ? { ...before, steps: [...before.steps, next] } : { origin: saved, base: version, steps: [next] },
      ),
    [saved, version],
  );
  return {
    definition,
    changed: JSON.stringify(definition) !== JSON.stringify(saved),
    steps: draft?.steps.length ?? 0,
    overtaken:
      draft && draft.base !== version && JSON.stringify(draft.origin) !== JSON.stringify(saved) ? draft.origin : null,
    base: draft && JSON.stringify(draft.origin) !== JSON.stringify(saved) ? draft.base : version,
    change,
    changeLoad: (load, next) => change({ ...definition, loads: { ...definition.loads, [load]: next } }),
    undo: () =>
      setDraft((before) =>
        before && before.steps.length > 1 ? { ...before, steps: before.steps.slice(0, -1) } : null,
      ),
    discard: () => setDraft(null),
    keep: () =>
      setDraft(
        (before) =>
          before && {
            origin: saved,
            base: version,
            steps: before.steps.map((step) => rebased(before.origin, step, saved)),
          },
      ),
  };
}
