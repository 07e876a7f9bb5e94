import { Textarea } from "@mantine/core";
import type { BulkForm } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";

const example =
  '{"begin":"/exports","id":"id","ask":"/exports/{id}","at":"state","done":"done","parts":"parts","format":"csv"}';

/** A form as it is typed: undefined where nothing is, null where it is no JSON object. */
function bulkOf(text: string): BulkForm | undefined | null {
  if (text.trim() === "") return undefined;
  try {
    const found: unknown = JSON.parse(text);
    return typeof found === "object" && found !== null && !Array.isArray(found) ? (found as BulkForm) : null;
  } catch {
    return null;
  }
}

/** How an application exports all of it in the background; whether its members are complete is told beside the sentence. */
export function BulkField({
  bulk,
  onPut,
}: {
  bulk: BulkForm | undefined;
  onPut: (bulk: BulkForm | undefined) => void;
}) {
  const [text, setText] = useState(bulk ? JSON.stringify(bulk) : "");
  const wrong = bulkOf(text) === null;
  return (
    <details>
      <summary>
        {bulk ? "All of it is exported in the background" : "It can export all of it in the background"}
      </summary>
      <Textarea
        label="How, as JSON"
        description="What begins an export, how it is asked for, what says that it is done, and where its parts are listed"
        placeholder={example}
        autosize
        minRows={2}
        value={text}
        error={wrong ? "This is no JSON object" : null}
        onChange={(event) => {
          const typed = event.currentTarget.value;
          setText(typed);
          const next = bulkOf(typed);
          if (next !== null) onPut(next);
        }}
        classNames={{ input: "mono" }}
      />
    </details>
  );
}
