import { Button, Modal } from "@mantine/core";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { DeliveryHeading, MessageView } from "@undercoat/core/api/api";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useCanEdit, useMe } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { Confirm } from "../parts/Confirm.tsx";
import { DataTable } from "../parts/DataTable.tsx";
import { counted, moment, until } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { Attempts } from "./Attempts.tsx";
import { MailServerDialog } from "./MailServerDialog.tsx";
import { MessageDialog } from "./MessageDialog.tsx";
import { occasionsOf, placeOf } from "./words.ts";

const tone = { sent: "good", waiting: "busy", "given up": "bad" } as const;

function stateOf({ status, nextAt }: DeliveryHeading): string {
  return status === "waiting" && nextAt ? `tried again ${until(nextAt)}` : status;
}

/** One of those who are told, with what can be done about it. */
function MessageRow({ row, onChange }: { row: MessageView; onChange: () => void }) {
  const client = useQueryClient();
  const canEdit = useCanEdit();
  const [deleting, setDeleting] = useState(false);
  const test = useMutation({
    mutationFn: () => answer(server.messages[":name"].test.$post(path({ name: row.name }))),
    onSuccess: () => refresh(client, queries.messages().queryKey),
  });
  const remove = useMutation({
    mutationFn: () => server.messages[":name"].$delete(path({ name: row.name })),
    onSuccess: () => refresh(client, queries.messages().queryKey),
  });
  return (
    <tr>
      <td className="strong nowrap">
        <Link to={`/messages?message=${row.name}`}>{row.name}</Link>
      </td>
      <td className="mono" style={{ overflowWrap: "anywhere" }}>
        {placeOf(row.definition)}
        {row.definition.to === "webhook" && !row.hasSecret && <span className="quiet"> not signed</span>}
      </td>
      <td>{occasionsOf(row.definition)}</td>
      <td>{row.definition.pipelines?.join(", ") ?? "all pipelines"}</td>
      <td className={row.troubles.length ? "lead" : "quiet"}>
        {row.troubles.length ? counted(row.troubles.length, "trouble") : "nothing open"}
      </td>
      <td className="nowrap right">
        {canEdit && (
          <span className="actions" style={{ justifyContent: "flex-end" }}>
            <button type="button" className="link" disabled={test.isPending} onClick={() => test.mutate()}>
              Test
            </button>
            <button type="button" className="link" onClick={onChange}>
              Change
            </button>
            <button type="button" className="link" onClick={() => setDeleting(true)}>
              Delete
            </button>
          </span>
        )}
        {(test.data || test.error) && (
          <Modal opened onClose={test.reset} title={`A test of ${row.name}`} size="lg">
            <ErrorNote error={test.error} />
            {test.data && <Attempts delivery={test.data} />}
          </Modal>
        )}
        {deleting && (
          <Confirm
            title={`Delete ${row.name}`}
            name={row.name}
            action="Delete it"
            onClose={() => setDeleting(false)}
            onConfirm={() => remove.mutate()}
          >
            Nobody is told there any more, and the log of what was told goes.
          </Confirm>
        )}
      </td>
    </tr>
  );
}

/** What was told, the latest first. */
function Log({ message }: { message: string }) {
  const navigate = useNavigate();
  const deliveries = useInfiniteQuery(queries.deliveries({ message }));
  const rows = deliveries.data?.pages.flat() ?? [];
  if (deliveries.data && rows.length === 0) return <p className="quiet">Nothing has been told yet.</p>;
  return (
    <>
      <ErrorNote error={deliveries.error} />
      <DataTable
        label="What was told"
        height="calc(100vh - 480px)"
        rows={rows}
        rowKey={(row) => String(row.id)}
        onOpen={(row) => navigate(`/deliveries/${row.id}`)}
        columns={[
          {
            head: "What",
            width: "minmax(0, 3fr)",
            cell: (row) => (
              <Link to={`/deliveries/${row.id}`} className="cut" onClick={(event) => event.stopPropagation()}>
                {row.subject}
              </Link>
            ),
          },
          { head: "To", width: "140px", cell: (row) => row.message },
          { head: "Asked for", width: "150px", cell: (row) => moment(row.createdAt) },
          {
            head: "State",
            width: "minmax(0, 2fr)",
            cell: (row) => (
              <span className="cut">
                <span className={`badge ${tone[row.status]}`}>{stateOf(row)}</span>
                {row.error && <span className="lead"> {row.error}</span>}
              </span>
            ),
          },
        ]}
      />
      {deliveries.hasNextPage && (
        <Button
          variant="default"
          mt={8}
          loading={deliveries.isFetchingNextPage}
          onClick={() => deliveries.fetchNextPage()}
        >
          Earlier ones
        </Button>
      )}
    </>
  );
}

/** Who is told of what, and what was told. */
export default function MessagesPage() {
  const canEdit = useCanEdit();
  const { demo } = useMe();
  const [message, setMessage] = useUrlState("message");
  const [editing, setEditing] = useState<MessageView | "new" | null>(null);
  const [mailing, setMailing] = useState(false);
  const { data, error } = useQuery(queries.messages());
  const mail = useQuery(queries.mail());
  if (!data) return <Unanswered error={error} />;
  // Several may be told of one trouble.
  const troubles = [
    ...new Map(
      data.flatMap((row) => row.troubles).map((one) => [`${one.pipeline}/${one.load}/${one.line}/${one.kind}`, one]),
    ).values(),
  ];
  return (
    <Page
      title="Messages"
      trail={[{ to: "/pipelines", of: "Pipelines" }, "Messages"]}
      heading={
        data.length === 0
          ? "Nobody is told of anything yet"
          : troubles.length
            ? `${counted(troubles.length, "trouble")} that somebody was told of`
            : "Nothing is wrong that somebody was told of"
      }
      about={
        <>
          One trouble is one message, and one more when it is over.{" "}
          {mail.data?.settings ? (
            <>
              Mail goes by{" "}
              <span className="mono">
                {mail.data.settings.host}:{mail.data.settings.port}
              </span>{" "}
              from {mail.data.settings.from}.{" "}
            </>
          ) : (
            "No mail server is named. "
          )}
          {canEdit && mail.data && (
            <button type="button" className="link" onClick={() => setMailing(true)}>
              {mail.data.settings ? "Change it" : "Name one"}
            </button>
          )}
        </>
      }
      actions={
        <>
          {demo && (
            <Button component={Link} to="/arrived" variant="outline">
              What arrived
            </Button>
          )}
          {canEdit && <Button onClick={() => setEditing("new")}>Tell somebody</Button>}
        </>
      }
    >
      {troubles.length > 0 && (
        <ul className="needs" aria-label="Open troubles" style={{ marginBottom: 14 }}>
          {troubles.map((one) => (
            <li key={`${one.pipeline} ${one.load} ${one.line} ${one.kind}`}>
              <Link to={one.run ? `/runs/${one.run}` : `/pipelines/${one.pipeline}`} className="lead">
                {one.says}
              </Link>
              <span className="quiet"> since {moment(one.since)}</span>
            </li>
          ))}
        </ul>
      )}
      {data.length > 0 && (
        <table className="plain" aria-label="Who is told">
          <thead>
            <tr>
              <th>Name</th>
              <th>Where</th>
              <th>When</th>
              <th>Of</th>
              <th>Now</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {data.map((row) => (
              <MessageRow key={row.name} row={row} onChange={() => setEditing(row)} />
            ))}
          </tbody>
        </table>
      )}
      {data.length > 0 && (
        <>
          <div className="actions" style={{ margin: "20px 0 6px" }}>
            <h2>What was told{message && ` to ${message}`}</h2>
            {message && (
              <button type="button" className="link" onClick={() => setMessage("")}>
                to all
              </button>
            )}
          </div>
          <Log message={message} />
        </>
      )}
      {editing && <MessageDialog message={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
      {mailing && mail.data && <MailServerDialog mail={mail.data} onClose={() => setMailing(false)} />}
    </Page>
  );
}
