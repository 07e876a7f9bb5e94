import type { ResolvedValue } from "@undercoat/core/parameter/resolve";
import { holesIn, valuesIn } from "@undercoat/core/parameter/scan";
import { Fragment } from "react";
import { useChosen } from "./chosen.ts";

export const originWords: Record<ResolvedValue["how"], string> = {
  default: "the default",
  set: "from the set",
  file: "from a file",
  "by hand": "by hand",
  schedule: "from the schedule",
};

/** A text of a pipeline with values in the places of its parameters, each told apart from what is written there. */
export function Filled({ text, sql }: { text: string; sql?: boolean }) {
  const { values } = useChosen();
  const mentions = (sql ? valuesIn(text) : holesIn(text)).filter(({ name }) => Object.hasOwn(values, name));
  return (
    <>
      {mentions.map(({ name, from, to }, at) => {
        const value = values[name];
        return (
          <Fragment key={from}>
            {text.slice(mentions[at - 1]?.to ?? 0, from)}
            <span className="filled" title={value ? `${text.slice(from, to)}, ${originWords[value.how]}` : undefined}>
              {value?.text === "" ? "''" : value?.text}
            </span>
          </Fragment>
        );
      })}
      {text.slice(mentions.at(-1)?.to ?? 0)}
    </>
  );
}
