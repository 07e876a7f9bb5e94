import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ConnectionView } from "@undercoat/core/api/api";
import type { Failure } from "@undercoat/core/run/run";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, FailureNote } from "../parts/words.tsx";
import { ConnectionForm } from "./ConnectionForm.tsx";

const again = "Open the connection and press Sign in and consent once more.";
/** What came of a consent that was not given. */
const consents: Record<string, Failure> = {
  unasked: { message: "This consent was not asked for here, or too long ago", hint: again },
  denied: { message: "The application was not consented to", hint: again },
  failed: {
    message: "Somebody consented, but the application gave no token that lasts",
    hint: `Check the client, its secret and where tokens are given; some applications ask for a scope such as offline_access. ${again}`,
  },
};

export default function ConnectionsPage() {
  const canEdit = useCanEdit();
  const [wanted, setWanted] = useUrlState("find");
  const [adding, setAdding] = useUrlState("new");
  const [consent] = useUrlState("consent");
  const { data, error } = useQuery(queries.connections());
  const shown = (data ?? []).filter((row) => matches(wanted, row.name, row.about.title, row.about.place));
  const uses = (row: ConnectionView, as: "source" | "warehouse") => row.usedBy.filter((use) => use.as === as).length;
  return (
    <Page
      title="Connections"
      heading={!data ? "Connections" : data.length ? counted(data.length, "connection") : "No connections yet"}
      about={
        data?.length === 0
          ? "A connection is the address and the credentials of an outside system. It serves as a source, a warehouse, or both."
          : "Passwords are stored encrypted and never shown again."
      }
      actions={
        <>
          {data && data.length > 0 && <Filter of="connections" value={wanted} onChange={setWanted} w={220} />}
          {canEdit && <Button onClick={() => setAdding("1")}>New connection</Button>}
        </>
      }
    >
      <ErrorNote error={error} />
      {Object.hasOwn(consents, consent) && <FailureNote failure={consents[consent] ?? { message: "" }} />}
      {shown.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>Connection</th>
              <th>Kind</th>
              <th>Place</th>
              <th>As</th>
              <th>Serves as</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((row) => (
              <tr key={row.name}>
                <td>
                  <Link to={`/connections/${row.name}`} className="strong">
                    {row.name}
                  </Link>
                </td>
                <td>{row.about.title}</td>
                <td className="mono">{row.about.place}</td>
                <td>{row.about.manner ?? <span className="quiet">nobody</span>}</td>
                <td>
                  {[
                    uses(row, "source") ? `source of ${counted(uses(row, "source"), "pipeline")}` : "",
                    uses(row, "warehouse") ? `warehouse of ${counted(uses(row, "warehouse"), "pipeline")}` : "",
                  ]
                    .filter(Boolean)
                    .join(", ") || <span className="quiet">nothing yet</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {adding && canEdit && <ConnectionForm connection={null} onClose={() => setAdding("")} />}
    </Page>
  );
}
