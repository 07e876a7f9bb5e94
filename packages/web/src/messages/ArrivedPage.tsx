import { useQuery } from "@tanstack/react-query";
import type { Delivery } from "@undercoat/core/message/delivery";
import { queries } from "../api/queries.ts";
import { counted, moment } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";

const signedWords = (signed: boolean | null) =>
  signed === null ? "not signed" : signed ? "signature right" : "signature wrong";

/** Of what a webhook tells: `run.finished of Gates of SKV`. */
function aboutOf(body: string): string {
  const { type, data } = JSON.parse(body) as Delivery;
  return `${type} of ${data.title}`;
}

/** The demo's mailbox and receiver of webhooks: what really arrived there. */
export default function ArrivedPage() {
  const { data, error } = useQuery({ ...queries.arrived(), refetchInterval: 3000 });
  if (!data) return <Unanswered error={error} />;
  return (
    <Page
      title="What arrived"
      trail={[{ to: "/messages", of: "Messages" }, "What arrived"]}
      heading={`${counted(data.mails.length, "mail")} and ${counted(data.requests.length, "webhook")} arrived`}
      about="The demo's night desk and harbour office are stand-ins on this machine that speak SMTP and HTTP; nothing leaves it. They forget when the demo stops."
    >
      <div className="columns" style={{ gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1fr)" }}>
        <section aria-label="Night desk">
          <h2>Night desk, by mail</h2>
          {data.mails.length === 0 && <p className="quiet">No mail yet.</p>}
          {data.mails.map((mail) => (
            <article key={mail.id} className="attempt">
              <div className="head" style={{ marginBottom: 4 }}>
                <span className="strong">{mail.subject}</span>
                <span className="quiet nowrap">{moment(mail.at)}</span>
              </div>
              <p className="quiet">
                {mail.from} to {mail.to.join(", ")}
              </p>
              <pre className="mono">{mail.text.trim()}</pre>
            </article>
          ))}
        </section>
        <section aria-label="Harbour office">
          <h2>Harbour office, by webhook</h2>
          {data.requests.length === 0 && <p className="quiet">No webhook yet.</p>}
          {data.requests.map((request) => (
            <details key={`${request.headers["webhook-id"]} ${request.at}`} className="attempt">
              <summary>
                {aboutOf(request.body)}: {signedWords(request.signed)}, answered {request.status}
                <span className="quiet"> {moment(request.at)}</span>
              </summary>
              <pre className="mono">{JSON.stringify(JSON.parse(request.body), null, 2)}</pre>
            </details>
          ))}
        </section>
      </div>
    </Page>
  );
}
