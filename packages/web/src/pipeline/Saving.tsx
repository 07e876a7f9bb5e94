import { TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { changesBetween, changeWords } from "@undercoat/core/pipeline/changes";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { queries } from "../api/queries.ts";

/** What a draft changes and what saving it would bring about, with the word that goes with the version. */
export function Saving({
  name,
  saved,
  draft,
  note,
  onNote,
  onSave,
}: {
  name: string;
  saved: Pipeline;
  draft: Pipeline;
  note: string;
  onNote: (note: string) => void;
  onSave: () => void;
}) {
  const [settled] = useDebouncedValue(draft, 400);
  const effects = useQuery({ ...queries.effects(name, settled), placeholderData: keepPreviousData });
  return (
    <section className="note" aria-label="What saving does" style={{ background: "var(--paper)", marginBottom: 10 }}>
      <div>
        {changeWords(changesBetween(saved, draft)).replace(/^./, (first) => first.toUpperCase()) || "Nothing differs"}.
      </div>
      {(effects.data ?? []).length > 0 && (
        <ul className="needs" aria-label="What it touches">
          {effects.data?.map(({ says }) => (
            <li key={says} className="lead">
              {says}
            </li>
          ))}
        </ul>
      )}
      <TextInput
        size="xs"
        mt={6}
        aria-label="What the change is for"
        placeholder="what it is for (kept with the version)"
        value={note}
        onChange={(event) => onNote(event.currentTarget.value)}
        onKeyDown={(event) => event.key === "Enter" && onSave()}
      />
    </section>
  );
}
