import { useSyncExternalStore } from "react";

/** Whether the server answers, as far as the stream of its events tells; the same in every part of the page. */
let away = false;
const told = new Set<() => void>();

export function setAway(next: boolean): void {
  if (next === away) return;
  away = next;
  for (const tell of told) tell();
}

export function useAway(): boolean {
  return useSyncExternalStore(
    (tell) => {
      told.add(tell);
      return () => told.delete(tell);
    },
    () => away,
  );
}
