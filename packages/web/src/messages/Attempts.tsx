import type { DeliveryView } from "@undercoat/core/api/api";
import { exactTime, moment } from "../parts/format.ts";

/** What was asked and what answered, the latest first. */
export function Attempts({ delivery: { attempts } }: { delivery: DeliveryView }) {
  return attempts.toReversed().map((attempt) => (
    <section key={attempt.at} className="attempt">
      <div className="head" style={{ marginBottom: 4 }}>
        <span className={attempt.error ? "lead strong" : "strong"}>
          {attempt.error ? `Not taken: ${attempt.error}` : "Taken"}
        </span>
        <span className="quiet nowrap" title={exactTime(attempt.at)}>
          {moment(attempt.at)}, took {attempt.took} ms
        </span>
      </div>
      <div className="quiet">Sent to</div>
      <pre className="mono">
        {[
          attempt.request.to,
          ...Object.entries(attempt.request.headers).map(([name, value]) => `${name}: ${value}`),
        ].join("\n")}
      </pre>
      {attempt.answer && (
        <>
          <div className="quiet">Answered</div>
          <pre className="mono">{`${attempt.answer.status} ${attempt.answer.text}`.trim()}</pre>
        </>
      )}
    </section>
  ));
}
