import { Modal } from "@mantine/core";
import { Link } from "react-router";
import { version } from "../../../../package.json";

const keys: [string, string][] = [
  ["/", "find anything by a part of its name"],
  ["?", "this page"],
  ["Tab", "to the next thing; on the ledger one stop a table"],
  ["← →", "from mark to mark of a table"],
  ["Enter", "opens what has the focus"],
  ["Ctrl Enter", "runs the pipeline that is open"],
  ["Ctrl S", "saves its draft"],
  ["Ctrl Z", "takes the draft's last step back"],
  ["Esc", "closes what is open"],
];

const words: [string, string][] = [
  ["load", "one dataset into one warehouse table"],
  ["pipeline", "a list of loads that run together"],
  ["run", "one execution of a pipeline"],
  ["watermark", "how far a load has read"],
  ["look-back", "how far before it the next run starts again, for rows that were committed late"],
  ["tally", "a run's rows accounted for: read = new + changed + same + rejected"],
  ["slice", "a day, or another length of time, by which a table is proved"],
  ["proof", "what both sides say of the same rows: by figures, or cell by cell"],
  ["figures agree", "counts and sums of both sides are the same; changes can hide in them"],
  ["every cell agrees", "every value was compared by checksum"],
  ["rejected rows", "rows that broke a type, a rule or the key; they stand with their reason until they are mended"],
  ["not known yet", "the warehouse has not answered whether a run had committed; it is asked until it does"],
];

/** Keys and words, and which version this is. */
export default function Help({ onClose }: { onClose: () => void }) {
  const list = (title: string, entries: [string, string][], mono: boolean) => (
    <section aria-label={title}>
      <h3>{title}</h3>
      <table className="plain">
        <tbody>
          {entries.map(([name, says]) => (
            <tr key={name}>
              <th scope="row" className={`nowrap${mono ? " mono" : ""}`} style={{ textAlign: "left" }}>
                {name}
              </th>
              <td>{says}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
  return (
    <Modal opened onClose={onClose} title={`Keys and words · Undercoat ${version}`} size="xl">
      <div className="columns">
        {list("Keys", keys, true)}
        {list("Words", words, false)}
      </div>
      <p style={{ marginTop: 14 }}>
        <Link to="/docs" onClick={onClose}>
          The docs
        </Link>{" "}
        tell the project file, the command line, and how it all works.
      </p>
    </Modal>
  );
}
