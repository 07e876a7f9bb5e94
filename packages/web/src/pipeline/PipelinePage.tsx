import { Button, Modal, Select, TextInput } from "@mantine/core";
import { useDebouncedValue, useHotkeys } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { PipelineView } from "@undercoat/core/api/api";
import { periodsOf } from "@undercoat/core/http/periods";
import type { Given } from "@undercoat/core/parameter/resolve";
import { slugOf } from "@undercoat/core/pipeline/names";
import { changesOnly, type Load, type Pipeline } from "@undercoat/core/pipeline/pipeline";
import { scheduleWords } from "@undercoat/core/schedule/schedule";
import { lazy, Suspense, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { Backfills } from "../backfill/Backfills.tsx";
import { Confirm } from "../parts/Confirm.tsx";
import { counted, moment, until } from "../parts/format.ts";
import { Unanswered } from "../parts/Page.tsx";
import { useRun, useRunSets } from "../parts/runs.ts";
import { Title } from "../parts/Title.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, StatusBadge } from "../parts/words.tsx";
import { TablePicker } from "../pipelines/TablePicker.tsx";
import { type Chosen, ChosenContext, declaredBy } from "../values/chosen.ts";
import { Filled } from "../values/Filled.tsx";
import { ValuesPanel } from "../values/ValuesPanel.tsx";
import { AboutEditor, AboutNote, Favourite, NameDialog } from "./About.tsx";
import { Bands } from "./Bands.tsx";
import { useDraft } from "./draft.ts";
import { JoinsEditor, joinsSentence } from "./JoinsEditor.tsx";
import { ManyLoads } from "./ManyLoads.tsx";
import { Phrase, PhraseButton } from "./Phrase.tsx";
import { PreviewPane } from "./PreviewPane.tsx";
import { RehearsalNote, useRehearsal } from "./Rehearse.tsx";
import { Saving } from "./Saving.tsx";
import { ScheduleEditor } from "./ScheduleEditor.tsx";

const Overtaken = lazy(() => import("./Overtaken.tsx"));

/** What of its source a load reads. */
function readWords(load: Load): string {
  const { from, watermark } = load;
  if (watermark) return watermark.column;
  if (from.files !== undefined) return changesOnly(load) ? "changed files" : "all files";
  // Some sources tell by themselves what changed.
  if (from.path === undefined) return load.into.mode === "replace" ? "whole table" : "no watermark";
  const periods = periodsOf(from);
  return periods ? `${periods.unit} by ${periods.unit}` : "all records";
}

/** How a load writes, and what of its source it reads. */
const loadWords = (load: Load | undefined) => (load ? `${load.into.mode} · ${readWords(load)}` : "");

export default function PipelinePage() {
  const { name = "" } = useParams();
  const { data, error } = useQuery(queries.pipeline(name));
  if (!data) return <Unanswered error={error} />;
  return <Workbench key={`${name} ${data.updatedAt}`} view={data} />;
}

function AddLoads({
  definition,
  onAdd,
  onClose,
}: {
  definition: Pipeline;
  onAdd: (loads: Pipeline["loads"]) => void;
  onClose: () => void;
}) {
  const first = Object.values(definition.loads)[0];
  const [from, setFrom] = useState(first?.from.connection ?? "");
  const [picked, setPicked] = useState<string[]>([]);
  const schema = first?.into.table.split(".")[0]?.replaceAll('"', "") ?? "landing";
  const suggest = useMutation({
    mutationFn: () => answer(server.pipelines.suggest.$post({ json: { connection: from, tables: picked, schema } })),
    onSuccess: (suggested) => {
      const taken = new Set(Object.keys(definition.loads));
      const named = suggested.map(({ name, load }) => {
        let free = name;
        for (let number = 2; taken.has(free); number++) free = `${name}-${number}`;
        taken.add(free);
        return [free, load] as const;
      });
      onAdd(Object.fromEntries(named));
    },
  });
  return (
    <Modal opened onClose={onClose} title="Add loads" size="xl">
      <TablePicker
        connection={from || null}
        onConnection={(value) => {
          setFrom(value ?? "");
          setPicked([]);
        }}
        picked={picked}
        onPicked={setPicked}
      />
      <ErrorNote error={suggest.error} />
      <div className="actions" style={{ justifyContent: "flex-end", marginTop: 12 }}>
        <Button disabled={picked.length === 0} loading={suggest.isPending} onClick={() => suggest.mutate()}>
          Add {counted(picked.length, "load")}
        </Button>
      </div>
    </Modal>
  );
}

function Workbench({ view }: { view: PipelineView }) {
  const { load: asked } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const canEdit = useCanEdit();
  const draft = useDraft(view.name, view.definition, view.updatedAt, canEdit);
  const [adding, setAdding] = useState(false);
  const [many, setMany] = useState(false);
  const [deleting, setDeleting] = useState(false);
  const [naming, setNaming] = useState<"duplicate" | "rename" | null>(null);
  const [about, setAbout] = useState(false);
  const [scheduling, setScheduling] = useState<number | null>(null);
  const [note, setNote] = useState("");
  const names = Object.keys(draft.definition.loads);
  const name = asked && draft.definition.loads[asked] ? asked : (names[0] ?? "");
  const load = draft.definition.loads[name];
  const [settled] = useDebouncedValue(draft.definition, 300);
  const [set, setSet] = useUrlState("values");
  const [byHand, setByHand] = useState<Given>({});
  const { parameters, values: sets = {} } = settled;
  const declares = Object.keys(parameters ?? {}).length > 0 || byHand.settings !== undefined;
  // A set that has gone is none any more.
  const given: Given | undefined = declares ? { ...byHand, set: Object.hasOwn(sets, set) ? set : null } : undefined;
  const resolved = useQuery({
    ...queries.resolved({ pipeline: view.name, definition: settled, given: given ?? {} }),
    enabled: declares,
    placeholderData: keepPreviousData,
  });
  const chosen: Chosen = {
    declared: declaredBy(settled),
    given,
    values: (declares && resolved.data?.values) || {},
  };
  const preview = useQuery({
    ...queries.preview({ pipeline: view.name, load: name, definition: settled, given }),
    enabled: settled.loads[name] !== undefined,
    placeholderData: keepPreviousData,
  });
  const pipeline = server.pipelines[":name"];
  const place = path({ name: view.name });
  const save = useMutation({
    mutationFn: () =>
      answer(pipeline.$put({ ...place, json: { definition: draft.definition, updatedAt: draft.base, note } })),
    onSuccess: (saved) => {
      draft.discard();
      setNote("");
      client.setQueryData(queries.pipeline(view.name).queryKey, saved);
      refresh(client, ["ledger"]);
    },
  });
  const remove = useMutation({
    mutationFn: () => pipeline.$delete(place),
    onSuccess: () => {
      client.invalidateQueries({ ...queries.pipelines(), exact: true });
      navigate("/pipelines");
    },
  });
  const run = useRun();
  const runSets = useRunSets();
  const setNames = Object.keys(view.definition.values ?? {});
  const rehearsal = useRehearsal(view.name, given);
  const start = () => {
    if (canEdit && !draft.changed) run.mutate({ pipeline: view.name, given });
  };
  useHotkeys([
    ["mod+Enter", start],
    ["mod+S", () => draft.changed && !draft.overtaken && save.mutate()],
    ["mod+Z", () => draft.steps > 0 && draft.undo()],
  ]);
  const problems = save.error instanceof ApiProblem ? (save.error.problem.problems ?? []) : [];
  const wrongLoads = new Set(problems.map((problem) => String(problem.path[1] ?? "")));
  return (
    <ChosenContext value={chosen}>
      <main className="workbench">
        <Title of={`${name}, ${view.definition.title}`} />
        <aside aria-label="Pipeline">
          <h1 style={{ fontSize: 21 }}>
            <Phrase
              fixed={!canEdit}
              label="Title"
              editor={(close) => (
                <TitleEditor
                  title={draft.definition.title}
                  onSet={(title) => {
                    draft.change({ ...draft.definition, title });
                    close();
                  }}
                />
              )}
            >
              <Filled text={draft.definition.title} />
            </Phrase>
          </h1>
          <p className="quiet" style={{ margin: "2px 0 12px" }}>
            <Favourite name={view.name} favourite={view.favourite} />{" "}
            {draft.changed ? `draft with ${counted(draft.steps, "change")}` : `saved ${moment(view.updatedAt)}`},{" "}
            <Link to={`/versions/${view.name}`}>version {view.version}</Link>
          </p>
          {draft.others.map((other) => (
            <p key={other.user} className="note" style={{ padding: "6px 8px", fontSize: 12.5 }}>
              {other.user} has a draft of {counted(other.steps, "change")} since {moment(other.at)}.
            </p>
          ))}
          {(draft.definition.owner || draft.definition.labels) && (
            <p className="quiet" style={{ fontSize: 12.5, marginBottom: 10 }}>
              {draft.definition.owner}{" "}
              {draft.definition.labels?.map((label) => (
                <span key={label} className="label">
                  {label}
                </span>
              ))}
            </p>
          )}
          <ValuesPanel
            definition={draft.definition}
            given={given ?? {}}
            error={resolved.error}
            canEdit={canEdit}
            onGiven={({ set: next, ...rest }) => {
              setSet(next ?? "");
              setByHand(rest);
            }}
            onSet={draft.change}
          />
          <div className="quiet strong">Loads</div>
          <nav aria-label="Loads">
            {names.map((entry) => (
              <Link
                key={entry}
                to={`/pipelines/${view.name}/${entry}`}
                className="load-link"
                aria-current={entry === name ? "page" : undefined}
              >
                <div className="mono strong cut">{entry}</div>
                <div className={wrongLoads.has(entry) ? "lead" : "quiet"}>
                  {wrongLoads.has(entry) ? "something is wrong" : loadWords(draft.definition.loads[entry])}
                </div>
              </Link>
            ))}
          </nav>
          {canEdit && (
            <p style={{ margin: "8px 0 18px" }}>
              <button type="button" className="link" onClick={() => setAdding(true)}>
                Add loads
              </button>
              {names.length > 1 && (
                <>
                  <br />
                  <button type="button" className="link" onClick={() => setMany(true)}>
                    Many at once
                  </button>
                </>
              )}
              <br />
              <Phrase
                fixed={!canEdit}
                label="Joining tables"
                editor={(close) => <JoinsEditor definition={draft.definition} onSet={draft.change} close={close} />}
              >
                {joinsSentence(draft.definition)}
              </Phrase>
            </p>
          )}
          <div className="quiet strong" style={{ marginTop: 8 }}>
            Runs
          </div>
          {view.schedules.map(({ words, next }, at) => (
            <div key={words} style={{ marginBottom: 4 }}>
              <PhraseButton
                fixed={!canEdit}
                label={view.schedules.length > 1 ? `Schedule ${at + 1}` : "Schedule"}
                onClick={() => setScheduling(at)}
              >
                {words}
              </PhraseButton>
              {next[0] && <div className="quiet">next {until(next[0])}</div>}
            </div>
          ))}
          {(canEdit || view.schedules.length === 0) && (
            <PhraseButton
              fixed={!canEdit}
              label={view.schedules.length ? "Another schedule" : "Schedule"}
              onClick={() => setScheduling(view.schedules.length)}
            >
              {view.schedules.length ? "another schedule" : scheduleWords(undefined)}
            </PhraseButton>
          )}
          {view.lastRun && (
            <p style={{ marginTop: 10 }}>
              <Link to={`/runs/${view.lastRun.id}`}>Run {view.lastRun.id}</Link>
              <br />
              <StatusBadge status={view.lastRun.status} verdict={view.lastRun.verdict} />
            </p>
          )}
          <p style={{ marginTop: 8 }}>
            <Link to={`/runs?pipeline=${view.name}`}>All its runs</Link>
            <br />
            <Link to={`/rejected?load=${view.name}/${name}`}>Rejected rows of {name}</Link>
          </p>
          <Backfills view={view} given={given} />
          {canEdit && (
            <p style={{ marginTop: 26 }}>
              <button type="button" className="link" onClick={() => setAbout(true)}>
                {draft.definition.owner || draft.definition.labels || draft.definition.note
                  ? "About it"
                  : "Say more about it"}
              </button>
              <br />
              <button type="button" className="link" onClick={() => setNaming("duplicate")}>
                Duplicate
              </button>
              {" · "}
              <button type="button" className="link" onClick={() => setNaming("rename")}>
                Rename
              </button>
              <br />
              <button type="button" className="link" onClick={() => setDeleting(true)}>
                Delete the pipeline
              </button>
            </p>
          )}
        </aside>
        <section aria-label="Load">
          {draft.overtaken && (
            <Suspense fallback={null}>
              <Overtaken view={view} draft={draft} since={draft.overtaken} />
            </Suspense>
          )}
          <div className="head" style={{ alignItems: "center", marginBottom: 4 }}>
            <h1 className="mono" style={{ fontSize: 22, fontWeight: 500 }}>
              {name}
            </h1>
            <div className="actions">
              {draft.changed ? (
                <>
                  <Button
                    variant="outline"
                    loading={rehearsal.busy}
                    onClick={() => rehearsal.start.mutate({ load: name, definition: draft.definition })}
                  >
                    Rehearse
                  </Button>
                  <Button variant="default" onClick={draft.undo}>
                    Undo
                  </Button>
                  <Button variant="default" onClick={draft.discard}>
                    Discard
                  </Button>
                  <Button
                    loading={save.isPending}
                    disabled={draft.overtaken !== null}
                    title={draft.overtaken ? "Say first what becomes of what was saved meanwhile" : undefined}
                    onClick={() => save.mutate()}
                  >
                    Save
                  </Button>
                </>
              ) : (
                canEdit && (
                  <>
                    <Button
                      variant="outline"
                      loading={rehearsal.busy}
                      onClick={() => rehearsal.start.mutate({ load: name, definition: draft.definition })}
                    >
                      Rehearse
                    </Button>
                    <Button
                      variant="outline"
                      onClick={() => run.mutate({ pipeline: view.name, kind: "prove", reason: "by hand", given })}
                    >
                      Prove now
                    </Button>
                    <Button loading={run.isPending} onClick={start} title="Ctrl+Enter">
                      {given?.set ? `Run ${given.set} now` : "Run now"}
                    </Button>
                    {setNames.length > 1 && (
                      <Button
                        variant="outline"
                        loading={runSets.isPending}
                        onClick={() => runSets.mutate({ pipeline: view.name, sets: setNames })}
                      >
                        Run all {setNames.length} sets
                      </Button>
                    )}
                  </>
                )
              )}
            </div>
          </div>
          <ErrorNote error={run.error ?? runSets.error ?? remove.error} />
          {save.error && <ErrorNote error={save.error} />}
          {draft.changed && canEdit && (
            <Saving
              name={view.name}
              saved={view.definition}
              draft={draft.definition}
              note={note}
              onNote={setNote}
              onSave={() => !draft.overtaken && save.mutate()}
            />
          )}
          {load && (
            <Bands
              pipeline={{ name: view.name, definition: draft.definition }}
              load={load}
              name={name}
              preview={preview.data}
              problems={problems}
              canEdit={canEdit}
              onSet={(next) => draft.changeLoad(name, next)}
              onDefinition={draft.change}
            />
          )}
          {canEdit && names.length > 1 && (
            <p style={{ marginTop: 14 }}>
              {!draft.changed && (
                <>
                  <button
                    type="button"
                    className="link"
                    onClick={() => run.mutate({ pipeline: view.name, loads: [name], given })}
                  >
                    Run only {name}
                  </button>
                  {" · "}
                  <button
                    type="button"
                    className="link"
                    onClick={() =>
                      run.mutate({
                        pipeline: view.name,
                        loads: [name],
                        scope: { kind: "whole" },
                        given,
                        reason: "the whole dataset again",
                      })
                    }
                  >
                    Read its whole dataset again
                  </button>
                  {" · "}
                </>
              )}
              <button
                type="button"
                className="link"
                onClick={() => {
                  const { [name]: _, ...rest } = draft.definition.loads;
                  draft.change({ ...draft.definition, loads: rest });
                  navigate(`/pipelines/${view.name}`);
                }}
              >
                Take {name} out of the pipeline
              </button>
              <span className="quiet"> (its table stays in the warehouse)</span>
              {!draft.changed && <MoveLoad pipeline={view.name} load={name} />}
            </p>
          )}
          {draft.definition.note && <AboutNote text={draft.definition.note} />}
        </section>
        <section aria-label="Rows">
          <PreviewPane preview={preview.data} error={preview.error} busy={preview.isFetching}>
            <RehearsalNote pipeline={view.name} load={name} rehearsal={rehearsal} definition={draft.definition} />
          </PreviewPane>
        </section>
        {adding && (
          <AddLoads
            definition={draft.definition}
            onClose={() => setAdding(false)}
            onAdd={(loads) => {
              draft.change({ ...draft.definition, loads: { ...draft.definition.loads, ...loads } });
              setAdding(false);
              navigate(`/pipelines/${view.name}/${Object.keys(loads)[0] ?? ""}`);
            }}
          />
        )}
        {many && (
          <ManyLoads
            definition={draft.definition}
            onClose={() => setMany(false)}
            onRun={draft.changed ? null : (loads) => run.mutate({ pipeline: view.name, loads, given })}
            onSet={(definition) => {
              draft.change(definition);
              setMany(false);
            }}
          />
        )}
        {naming && <NameDialog view={view} does={naming} onClose={() => setNaming(null)} />}
        {scheduling !== null && (
          <Modal opened onClose={() => setScheduling(null)} title={`When ${view.definition.title} runs`}>
            <ScheduleEditor view={view} at={scheduling} close={() => setScheduling(null)} />
          </Modal>
        )}
        {about && (
          <AboutEditor
            definition={draft.definition}
            onClose={() => setAbout(false)}
            onSet={(next) => {
              draft.change(next);
              setAbout(false);
            }}
          />
        )}
        {deleting && (
          <Confirm
            title={`Delete ${view.definition.title}`}
            name={view.name}
            action="Delete it"
            onClose={() => setDeleting(false)}
            onConfirm={() => {
              setDeleting(false);
              remove.mutate();
            }}
          >
            The pipeline, its schedule and its marks in the ledger go. The tables in the warehouse and the history of
            runs stay.
          </Confirm>
        )}
      </main>
    </ChosenContext>
  );
}

/** Moves a load to another pipeline, with all that is known of it. */
function MoveLoad({ pipeline, load }: { pipeline: string; load: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const pipelines = useQuery(queries.pipelines());
  const move = useMutation({
    mutationFn: (to: string) =>
      server.pipelines[":name"].loads[":load"].move.$post({ ...path({ name: pipeline, load }), json: { to } }),
    onSuccess: (_, to) => {
      refresh(client, queries.pipelines().queryKey);
      navigate(`/pipelines/${to}/${load}`);
    },
  });
  return (
    <>
      {" · "}
      <Phrase
        label={`Move ${load}`}
        editor={(close) => (
          <>
            <Select
              label={`Move ${load} to`}
              placeholder="another pipeline"
              data={(pipelines.data ?? [])
                .filter((row) => row.name !== pipeline)
                .map((row) => ({ value: row.name, label: row.title }))}
              value={null}
              onChange={(to) => to && move.mutate(to, { onSuccess: close })}
              searchable
              comboboxProps={{ withinPortal: false }}
            />
            <p className="quiet">Its watermark, marks and proofs go along.</p>
            <ErrorNote error={move.error} />
          </>
        )}
      >
        move it
      </Phrase>
    </>
  );
}

function TitleEditor({ title, onSet }: { title: string; onSet: (title: string) => void }) {
  const [value, setValue] = useState(title);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (slugOf(value)) onSet(value.trim());
      }}
    >
      <TextInput label="Title" value={value} onChange={(event) => setValue(event.currentTarget.value)} data-autofocus />
      <Button type="submit" size="xs" mt="sm" disabled={!value.trim()}>
        Set
      </Button>
    </form>
  );
}
