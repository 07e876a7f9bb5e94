import { Button, Radio, TextInput } from "@mantine/core";
import { type Candidate, placesWith, withParameter } from "@undercoat/core/parameter/make";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { counted } from "../parts/format.ts";

const usualNames: Record<Candidate["kind"], string> = {
  connection: "site",
  dataset: "source",
  table: "target",
  constant: "value",
};

interface Props {
  definition: Pipeline;
  candidate: Candidate;
  /** where it stands here */
  path: (string | number)[];
  onSet: (definition: Pipeline) => void;
}

/** Makes a parameter of what stands in a sentence, here or wherever the pipeline says the same. */
export function MakeParameter({ definition, candidate, path, onSet }: Props) {
  const [open, setOpen] = useState(false);
  const taken = Object.keys(definition.parameters ?? {});
  let usual = usualNames[candidate.kind];
  for (let number = 2; taken.includes(usual); number++) usual = `${usualNames[candidate.kind]}_${number}`;
  const [name, setName] = useState(usual);
  const [all, setAll] = useState("all");
  const places = placesWith(definition, candidate);
  if (!open)
    return (
      <button type="button" className="link" onClick={() => setOpen(true)}>
        Make {candidate.kind === "constant" ? <span className="mono">{candidate.text}</span> : "it"} a parameter
      </button>
    );
  const wrong =
    !/^[A-Za-z_][A-Za-z0-9_]{0,62}$/.test(name) || name === "from" || name === "to"
      ? "Letters, digits and _"
      : taken.includes(name)
        ? "There is such a parameter already"
        : null;
  return (
    <fieldset
      className="note"
      style={{ border: 0, margin: "12px 0 0", display: "grid", gap: 8, background: "var(--chalk)" }}
    >
      <legend className="visually-hidden">A parameter in the place of {candidate.text}</legend>
      <TextInput
        size="xs"
        label={`A parameter in the place of ${candidate.text}`}
        value={name}
        error={wrong}
        onChange={(event) => setName(event.currentTarget.value)}
        classNames={{ input: "mono" }}
        data-autofocus
      />
      {places.length > 1 && (
        <Radio.Group size="xs" value={all} onChange={setAll} label="Where">
          <Radio size="xs" value="all" label={`in all ${counted(places.length, "place")} that say so`} />
          <Radio size="xs" mt={4} value="here" label="here only" />
        </Radio.Group>
      )}
      <div className="right">
        <Button
          size="xs"
          disabled={wrong !== null}
          onClick={() => onSet(withParameter(definition, name, candidate, all === "here" ? path : undefined))}
        >
          Make it
        </Button>
      </div>
    </fieldset>
  );
}
