import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { counted, moment, until } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { ErrorNote } from "../parts/words.tsx";
import { Attempts } from "./Attempts.tsx";

/** One thing told: what it says, and each attempt to hand it over. */
export default function DeliveryPage() {
  const { id = "" } = useParams();
  const client = useQueryClient();
  const canEdit = useCanEdit();
  const { data, error } = useQuery(queries.delivery(id));
  const again = useMutation({
    mutationFn: () => answer(server.deliveries[":id"].again.$post(path({ id }))),
    onSuccess: (sent) => {
      client.setQueryData(queries.delivery(id).queryKey, sent);
      refresh(client, queries.messages().queryKey);
    },
  });
  if (!data) return <Unanswered error={error} />;
  return (
    <Page
      title={data.subject}
      trail={[
        { to: "/messages", of: "Messages" },
        { to: `/messages?message=${data.message}`, of: data.message },
        `delivery ${data.id}`,
      ]}
      heading={data.subject}
      about={
        <>
          {data.status === "sent" ? "Taken" : data.status === "waiting" ? "Not taken yet" : "Not taken"} after{" "}
          {counted(data.tries, "attempt")}
          {data.nextAt && `; tried again ${until(data.nextAt)}`}. Asked for {moment(data.createdAt)}, id{" "}
          <span className="mono">{data.uid}</span>.
        </>
      }
      actions={
        canEdit && (
          <Button loading={again.isPending} onClick={() => again.mutate()}>
            Send it again
          </Button>
        )
      }
    >
      <ErrorNote error={again.error} />
      <div className="columns" style={{ gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1fr)" }}>
        <div>
          <h2>Attempts</h2>
          <Attempts delivery={data} />
          {data.attempts.length === 0 && <p className="quiet">None yet.</p>}
        </div>
        <div>
          <h2>What it says</h2>
          <pre className="mono attempt">{data.text}</pre>
          <details>
            <summary>As a program receives it</summary>
            <pre className="mono attempt">{JSON.stringify(data.body, null, 2)}</pre>
          </details>
        </div>
      </div>
    </Page>
  );
}
