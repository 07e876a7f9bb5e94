import type { ResolvedValue } from "@undercoat/core/parameter/resolve";
import { originWords } from "./Filled.tsx";

/** What a run ran with, and how each value came. */
export function ValuesNote({ set, values }: { set: string | null; values: Record<string, ResolvedValue> }) {
  const given = Object.entries(values);
  if (given.length === 0) return null;
  return (
    <p style={{ margin: "0 0 12px" }}>
      {set === null ? (
        "With "
      ) : (
        <>
          With the values <b>{set}</b>:{" "}
        </>
      )}
      {given.map(([name, { text, how }], at) => (
        <span key={name} title={originWords[how]}>
          {at > 0 && ", "}
          <span className="quiet">{name}</span> <span className="mono">{text === "" ? "''" : text}</span>
          {how !== "set" && how !== "default" && <span className="quiet"> ({originWords[how]})</span>}
        </span>
      ))}
      .
    </p>
  );
}
