import type { Given, ResolvedValue } from "@undercoat/core/parameter/resolve";
import { filled, holesIn } from "@undercoat/core/parameter/scan";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { createContext, useContext } from "react";

/** What a pipeline declares to be run with. */
export type Declared = Pick<Pipeline, "parameters" | "values" | "zone">;

/** The values that a pipeline's page shows it with. */
export interface Chosen {
  declared: Declared;
  /** undefined where the pipeline has no parameters */
  given: Given | undefined;
  /** what each parameter comes to, as far as the server has said */
  values: Readonly<Record<string, ResolvedValue>>;
}

export const ChosenContext = createContext<Chosen>({ declared: {}, given: undefined, values: {} });

/** A name with values in its holes, to ask a server by. */
export function useFill(): (text: string) => string {
  const { values } = useChosen();
  return (text) => filled(text, holesIn(text), (name) => values[name]?.text);
}

export const useChosen = () => useContext(ChosenContext);

export const declaredBy = ({ parameters, values, zone }: Pipeline): Declared => ({ parameters, values, zone });
