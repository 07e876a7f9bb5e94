import { useQuery } from "@tanstack/react-query";
import type { FileTaken } from "@undercoat/core/api/api";
import { Link, useParams } from "react-router";
import { queries } from "../api/queries.ts";
import type { Column } from "../parts/DataTable.tsx";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted, grouped, moment } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { FilesRead } from "./FilesRead.tsx";

/** The files that a load has taken, each as it was read last. */
export default function TakenPage() {
  const { pipeline = "", load = "" } = useParams();
  const [wanted, setWanted] = useUrlState("find");
  const of = useQuery(queries.pipeline(pipeline));
  const taken = useQuery(queries.taken(pipeline, load));
  if (!of.data || !taken.data) return <Unanswered error={of.error ?? taken.error} />;
  const { from } = of.data.definition.loads[load] ?? {};
  const rows = taken.data.filter(({ name }) => matches(wanted, name));
  const sum = (pick: (file: FileTaken) => string) =>
    grouped(String(taken.data.reduce((so, file) => so + BigInt(pick(file)), 0n)));
  const sets = taken.data.some(({ set }) => set !== null);
  const more: Column<FileTaken>[] = [
    ...(sets ? [{ head: "Set", width: "90px", cell: ({ set }: FileTaken) => set ?? "–" }] : []),
    { head: "Read last", width: "130px", cell: ({ at }) => moment(at) },
    { head: "By", width: "80px", cell: ({ run }) => <Link to={`/runs/${run}`}>run {run}</Link> },
  ];
  return (
    <Page
      title={`Files of ${load}`}
      trail={[
        { to: "/pipelines", of: "Pipelines" },
        { to: `/pipelines/${pipeline}/${load}`, of: of.data.definition.title },
        "Files",
      ]}
      heading={<>Files that {load} has taken</>}
      about={
        <>
          {counted(taken.data.length, "file")} of <span className="mono">{from?.files}</span> in{" "}
          <Link to={`/connections/${from?.connection}`}>{from?.connection}</Link>, with {sum(({ rows: read }) => read)}{" "}
          rows
          {taken.data.some(({ faults }) => faults !== "0") && (
            <>
              {" "}
              and{" "}
              <Link to={`/rejected?load=${pipeline}/${load}`}>
                {counted(Number(sum(({ faults }) => faults).replaceAll(",", "")), "faulty line")}
              </Link>{" "}
              among them
            </>
          )}
          .
        </>
      }
    >
      {taken.data.length === 0 ? (
        <p className="quiet">It has taken none yet. Its first run will.</p>
      ) : (
        <>
          <div className="actions" style={{ marginBottom: 8, justifyContent: "space-between" }}>
            <span className="quiet">Each as it was read last; one that has not changed is not read again.</span>
            <Filter of="files" value={wanted} onChange={setWanted} w={190} />
          </div>
          <FilesRead label="Files" files={rows} height="calc(100vh - 260px)" more={more} />
        </>
      )}
    </Page>
  );
}
