export type MarkState = "empty" | "loaded" | "proved" | "disagrees" | "loading";

export const markWords: Record<MarkState, string> = { empty: "not loaded", loaded: "loaded", proved: "proved", disagrees: "disagrees", loading: "loading" };

/** The product's sign: the lower coat says loaded, the upper says proved. */
export function Mark({ state, wide = false }: { state: MarkState; wide?: boolean }) {
  return (
    <span className={`coat ${state}${wide ? " wide" : ""}`} aria-hidden="true">
      <i />
      <i />
    </span>
  );
}

export function Legend() {
  return (
    <div className="legend">
      {(["empty", "loaded", "proved", "disagrees"] as const).map((state) => (
        <span key={state}>
          <Mark state={state} /> {markWords[state]}
        </span>
      ))}
    </div>
  );
}
