import { Button, Modal } from "@mantine/core";
import type { PipelineView } from "@undercoat/core/api/api";
import { changesBetween, changeWords } from "@undercoat/core/pipeline/changes";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { stringify } from "yaml";
import { moment } from "../parts/format.ts";
import type { Draft } from "./draft.ts";

/** The part of a definition that a change is about, as the project file writes it. */
function written(definition: Pipeline, part: string): string {
  const load = /^load (.+)$/.exec(part)?.[1];
  const value = load === undefined ? definition[part as keyof Pipeline] : definition.loads[load];
  return value === undefined ? "not there" : stringify(value);
}

/** Says that somebody else saved what is being changed here, and what they changed; nothing is lost without a word. */
export default function Overtaken({ view, draft, since }: { view: PipelineView; draft: Draft; since: Pipeline }) {
  const [comparing, setComparing] = useState(false);
  const theirs = changesBetween(since, view.definition);
  const differing = changesBetween(draft.definition, view.definition);
  return (
    <div className="note" role="alert" style={{ marginBottom: 12 }}>
      <div className="strong">
        {view.savedBy ?? "The pipeline itself"} saved a change at {moment(view.updatedAt)}, while this draft was open:{" "}
        {changeWords(theirs) || "nothing that differs"}
      </div>
      <div>
        Your draft is still here. <i>Keep mine</i> puts your changes on top of theirs, and yours stand where both
        changed the same part; <i>Take theirs</i> drops your draft.
      </div>
      <div className="actions" style={{ marginTop: 8 }}>
        <Button size="compact-sm" variant="outline" onClick={() => setComparing(true)}>
          Compare
        </Button>
        <Button size="compact-sm" variant="default" onClick={draft.discard}>
          Take theirs
        </Button>
        <Button size="compact-sm" onClick={draft.keep}>
          Keep mine
        </Button>
      </div>
      <Modal opened={comparing} onClose={() => setComparing(false)} title="Your draft beside what is saved" size="90%">
        {differing.length === 0 && <p>They say the same.</p>}
        {differing.map(({ part }) => (
          <section key={part} aria-label={part}>
            <h3>{part}</h3>
            <div className="columns">
              {(
                [
                  ["Your draft", draft.definition],
                  ["Saved", view.definition],
                ] as const
              ).map(([title, definition]) => (
                <div key={title}>
                  <div className="quiet">{title}</div>
                  <pre className="mono" style={{ whiteSpace: "pre-wrap" }}>
                    {written(definition, part)}
                  </pre>
                </div>
              ))}
            </div>
          </section>
        ))}
      </Modal>
    </div>
  );
}
