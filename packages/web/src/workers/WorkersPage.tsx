import { NumberInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { WorkersView } from "@undercoat/core/api/api";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { bytes, counted, moment } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { ErrorNote } from "../parts/words.tsx";

type Worker = WorkersView["workers"][number];

const tellWords = { true: "takes no more", false: "takes runs" };

/** How a worker is, in a word or two. */
function stateOf({ lost, resting, seenAt, runs }: Worker): string {
  if (lost) return `not heard of since ${moment(seenAt)}`;
  return runs.length ? `${tellWords[`${resting}`]}, ${counted(runs.length, "run")} in hand` : tellWords[`${resting}`];
}

function WorkerRow({ worker }: { worker: Worker }) {
  const client = useQueryClient();
  const { user } = useMe();
  const mayChange = user.role === "administrator" && !worker.lost;
  const [parallel, setParallel] = useState(worker.parallel);
  const change = useMutation({
    mutationFn: (json: { parallel?: number; resting?: boolean }) =>
      answer(server.workers[":name"].$put({ ...path({ name: worker.name }), json })),
    onSuccess: (view) => client.setQueryData(queries.workers().queryKey, view),
  });
  return (
    <tr>
      <td className="mono nowrap">{worker.name}</td>
      <td className="nowrap">{moment(worker.startedAt)}</td>
      <td className="mono">{worker.version}</td>
      <td className="right mono nowrap">{bytes(worker.memory)}</td>
      <td className={worker.lost ? "lead" : undefined}>
        {stateOf(worker)}
        {worker.runs.map((run) => (
          <div key={run.id}>
            <Link className="link" to={`/runs/${run.id}`}>
              {run.title}
            </Link>
            <span className="quiet">
              {" "}
              {run.loads.map(({ load, phase }) => `${load}${phase ? ` ${phase}` : ""}`).join(", ")}
            </span>
          </div>
        ))}
        <ErrorNote error={change.error} />
      </td>
      <td className="right nowrap">
        {mayChange ? (
          <NumberInput
            aria-label={`Runs at a time of ${worker.name}`}
            size="xs"
            w={70}
            ml="auto"
            min={1}
            max={32}
            value={parallel}
            onChange={(many) => setParallel(Number(many) || 1)}
            onBlur={() => parallel !== worker.parallel && change.mutate({ parallel })}
            onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          />
        ) : (
          <span className="mono">{worker.parallel}</span>
        )}
      </td>
      <td className="right nowrap">
        {mayChange && (
          <button
            type="button"
            className="link"
            disabled={change.isPending}
            onClick={() => change.mutate({ resting: !worker.resting })}
          >
            {worker.resting ? "Take runs again" : "Take no more"}
          </button>
        )}
      </td>
    </tr>
  );
}

/** Who takes runs, at what they are, and how much of each connection is in use. */
export default function WorkersPage() {
  const { data, error } = useQuery({ ...queries.workers(), refetchInterval: 3000 });
  if (!data) return <Unanswered error={error} />;
  const living = data.workers.filter(({ lost }) => !lost);
  const runs = living.reduce((sum, worker) => sum + worker.runs.length, 0);
  return (
    <Page
      title="Workers"
      trail={[{ to: "/runs", of: "Runs" }, "Workers"]}
      heading={
        living.length === 0
          ? "No worker takes runs"
          : `${counted(living.length, "worker")}, ${counted(runs, "run")} in hand, ${data.waiting} waiting`
      }
      about="Runs are taken in turns, pipeline by pipeline; what is due comes before a backfill. A run whose worker is lost is ended and told, and its table is as it was."
    >
      <table className="plain" aria-label="Workers">
        <thead>
          <tr>
            <th>Worker</th>
            <th>Since</th>
            <th>Version</th>
            <th className="right">Memory</th>
            <th>Now</th>
            <th className="right">Runs at a time</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {data.workers.map((worker) => (
            <WorkerRow key={worker.name} worker={worker} />
          ))}
        </tbody>
      </table>
      <p style={{ margin: "14px 0 4px" }}>
        Another one is a single command, on this machine or on any that reaches the product's database:
      </p>
      <pre className="mono attempt" style={{ maxWidth: 760, marginTop: 4 }}>
        UNDERCOAT_DATABASE_URL=… UNDERCOAT_SECRET_KEY=… UNDERCOAT_PARALLEL=4 ./undercoat worker
      </pre>
      <h2 style={{ marginTop: 22 }}>Connections</h2>
      <table className="plain" aria-label="Connections" style={{ width: "auto", minWidth: 420 }}>
        <thead>
          <tr>
            <th>Connection</th>
            <th className="right">Loads at a time</th>
            <th className="right">In use</th>
          </tr>
        </thead>
        <tbody>
          {data.connections.map(({ name, parallel, taken }) => (
            <tr key={name}>
              <td>
                <Link to={`/connections/${name}`}>{name}</Link>
              </td>
              <td className="right mono">{parallel}</td>
              <td className="right mono">{taken}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Page>
  );
}
