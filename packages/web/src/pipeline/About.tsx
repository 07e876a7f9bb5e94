import { Button, Modal, TagsInput, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { PipelineView } from "@undercoat/core/api/api";
import { slugOf } from "@undercoat/core/pipeline/names";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { lazy, Suspense, useState } from "react";
import { useNavigate } from "react-router";
import { path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { ErrorNote } from "../parts/words.tsx";

const Markdown = lazy(() => import("react-markdown"));

/** What there is to know of a pipeline: whose it is, its labels, a note. */
export function AboutEditor({
  definition,
  onSet,
  onClose,
}: {
  definition: Pipeline;
  onSet: (definition: Pipeline) => void;
  onClose: () => void;
}) {
  const [owner, setOwner] = useState(definition.owner ?? "");
  const [labels, setLabels] = useState(definition.labels ?? []);
  const [note, setNote] = useState(definition.note ?? "");
  return (
    <Modal opened onClose={onClose} title="About it" size="lg">
      <form
        style={{ display: "grid", gap: 12 }}
        onSubmit={(event) => {
          event.preventDefault();
          const { owner: _, labels: __, note: ___, ...rest } = definition;
          onSet({
            ...rest,
            ...(owner.trim() ? { owner: owner.trim() } : {}),
            ...(labels.length ? { labels } : {}),
            ...(note.trim() ? { note } : {}),
          });
        }}
      >
        <TextInput
          label="Whose it is"
          value={owner}
          onChange={(event) => setOwner(event.currentTarget.value)}
          data-autofocus
        />
        <TagsInput label="Labels" description="Enter adds one" value={labels} onChange={setLabels} maxTags={20} />
        <Textarea
          label="Note"
          description="Markdown"
          autosize
          minRows={5}
          maxRows={14}
          value={note}
          onChange={(event) => setNote(event.currentTarget.value)}
        />
        <div className="right">
          <Button type="submit">Set</Button>
        </div>
      </form>
    </Modal>
  );
}

export function AboutNote({ text }: { text: string }) {
  return (
    <Suspense fallback={null}>
      <div className="about">
        <Markdown>{text}</Markdown>
      </div>
    </Suspense>
  );
}

/** Wants to see a pipeline first, or no more. */
export function Favourite({ name, favourite }: { name: string; favourite: boolean }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: () => server.pipelines[":name"].favourite.$put({ ...path({ name }), json: { favourite: !favourite } }),
    onSuccess: () => refresh(client, queries.pipelines().queryKey),
  });
  return (
    <button
      type="button"
      className="favourite"
      aria-pressed={favourite}
      aria-label="Show it first"
      title={favourite ? "It stands first in the list" : "Show it first in the list"}
      onClick={() => change.mutate()}
    >
      {favourite ? "★" : "☆"}
    </button>
  );
}

/** A pipeline like this one, or the same under another name. */
export function NameDialog({
  view,
  does,
  onClose,
}: {
  view: PipelineView;
  does: "duplicate" | "rename";
  onClose: () => void;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const first = Object.values(view.definition.loads)[0]?.into.table.split(".")[0]?.replaceAll('"', "") ?? "";
  const [name, setName] = useState(does === "duplicate" ? `${view.name}-copy` : view.name);
  const [title, setTitle] = useState(`${view.definition.title}, copy`);
  const [schema, setSchema] = useState(`${first}_copy`);
  const go = useMutation({
    mutationFn: () =>
      does === "rename"
        ? server.pipelines[":name"].rename.$post({ ...path({ name: view.name }), json: { name } })
        : server.pipelines[":name"].duplicate.$post({ ...path({ name: view.name }), json: { name, title, schema } }),
    onSuccess: () => {
      refresh(client, queries.pipelines().queryKey);
      onClose();
      navigate(`/pipelines/${name}`);
    },
  });
  return (
    <Modal
      opened
      onClose={onClose}
      title={does === "rename" ? `Rename ${view.name}` : `A pipeline like ${view.definition.title}`}
    >
      <form
        style={{ display: "grid", gap: 12 }}
        onSubmit={(event) => {
          event.preventDefault();
          go.mutate();
        }}
      >
        {does === "duplicate" && (
          <TextInput
            label="Title"
            value={title}
            onChange={(event) => setTitle(event.currentTarget.value)}
            data-autofocus
          />
        )}
        <TextInput
          label="Name"
          description="As addresses and the command line have it"
          value={name}
          error={name !== slugOf(name) && name !== view.name ? "Small letters, digits and -" : null}
          onChange={(event) => setName(event.currentTarget.value)}
          classNames={{ input: "mono" }}
        />
        {does === "duplicate" && (
          <TextInput
            label="Its tables stand in the schema"
            description="One table has one load; the copy has no schedule"
            value={schema}
            onChange={(event) => setSchema(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
        )}
        {does === "rename" && (
          <p className="quiet">
            Its runs, versions, marks and watermarks go along. Command lines that name it have to be changed.
          </p>
        )}
        <ErrorNote error={go.error} />
        <div className="right">
          <Button type="submit" loading={go.isPending}>
            {does === "rename" ? "Rename it" : "Make it"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
