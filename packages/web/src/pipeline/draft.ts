import { useQuery, useQueryClient } from "@tanstack/react-query";
import { rebased } from "@undercoat/core/pipeline/changes";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useCallback, useEffect, useRef, useState } from "react";
import { path, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";

/** A pipeline as it is being changed: what is saved, the steps since, and the way back. */
export interface Draft {
  definition: Pipeline;
  changed: boolean;
  steps: number;
  /** what was saved when the first step was taken, where something else has been saved since; else null */
  overtaken: Pipeline | null;
  /** the version that the draft goes out from */
  base: string;
  /** who else is changing it */
  others: { user: string; at: string; steps: number }[];
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
  /** when the last step was taken, in milliseconds since the epoch */
  at: number;
}

const place = (name: string) => `undercoat draft ${name}`;
/** How long nothing is changed before the draft is kept for other devices, in milliseconds. */
const patience = 600;

function kept(name: string): Kept | null {
  try {
    const found = JSON.parse(sessionStorage.getItem(place(name)) ?? "null") as Kept | null;
    return found?.steps.length && found.origin ? { ...found, at: found.at ?? 0 } : null;
  } catch {
    return null;
  }
}

/** Keeps it in the browser at once; a full storage keeps nothing, and the draft lives as long as the page. */
function keepHere(name: string, draft: Kept | null): void {
  try {
    if (draft) sessionStorage.setItem(place(name), JSON.stringify(draft));
    else sessionStorage.removeItem(place(name));
  } catch {
    // The server keeps it too.
  }
}

/** Keeps it for its author's other devices; what can't be reached now is tried with the next step. */
async function keepThere(name: string, draft: Kept | null): Promise<void> {
  const there = server.pipelines[":name"].draft;
  const at = path({ name });
  const { origin, base, steps } = draft ?? {};
  await (origin && base && steps ? there.$put({ ...at, json: { origin, base, steps } }) : there.$delete(at)).catch(
    () => undefined,
  );
}

/**
 * Keeps unsaved changes for their author, here at once and on the server soon after, so that neither leaving the page nor
 * another device loses any, with every step undoable. What somebody else saves meanwhile does not take them away: it is
 * told, and the draft waits for a word.
 */
export function useDraft(name: string, saved: Pipeline, version: string, canEdit: boolean): Draft {
  const client = useQueryClient();
  const [draft, setDraft] = useState<Kept | null>(() => kept(name));
  const { data: there } = useQuery(queries.draft(name));
  // What was changed later, here or on another device, is the draft; one that was given up here stays so.
  const settled = useRef(false);
  useEffect(() => {
    if (!there || settled.current) return;
    settled.current = true;
    const { mine } = there;
    if (!mine) return;
    const at = Date.parse(mine.at);
    setDraft((here) =>
      here && here.at >= at
        ? here
        : { origin: mine.origin as Pipeline, base: mine.base, steps: mine.steps as Pipeline[], at },
    );
  }, [there]);
  const known = useRef(draft);
  useEffect(() => {
    keepHere(name, draft);
    if (!canEdit || draft === known.current) return;
    known.current = draft;
    const timer = setTimeout(() => keepThere(name, draft), draft ? patience : 0);
    return () => clearTimeout(timer);
  }, [name, draft, canEdit]);
  const give = useCallback(
    (next: (before: Kept | null) => Kept | null) => {
      settled.current = true;
      setDraft((before) => {
        const after = next(before);
        return after && { ...after, at: Date.now() };
      });
      client.setQueryData(queries.draft(name).queryKey, (before) => before && { ...before, mine: null });
    },
    [client, name],
  );
  const definition = draft?.steps.at(-1) ?? saved;
  const change = useCallback(
    (next: Pipeline) =>
      give((before) =>
        before ? { ...before, steps: [...before.steps, next] } : { origin: saved, base: version, steps: [next], at: 0 },
      ),
    [give, saved, version],
  );
  return {
    definition,
    changed: JSON.stringify(definition) !== JSON.stringify(saved),
    steps: draft?.steps.length ?? 0,
    overtaken:
      draft && draft.base !== version && JSON.stringify(draft.origin) !== JSON.stringify(saved) ? draft.origin : null,
    base: draft && JSON.stringify(draft.origin) !== JSON.stringify(saved) ? draft.base : version,
    others: there?.others ?? [],
    change,
    changeLoad: (load, next) => change({ ...definition, loads: { ...definition.loads, [load]: next } }),
    undo: () =>
      give((before) => (before && before.steps.length > 1 ? { ...before, steps: before.steps.slice(0, -1) } : null)),
    discard: () => give(() => null),
    keep: () =>
      give(
        (before) =>
          before && {
            ...before,
            origin: saved,
            base: version,
            steps: before.steps.map((step) => rebased(before.origin, step, saved)),
          },
      ),
  };
}
