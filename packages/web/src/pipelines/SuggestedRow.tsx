import { useQuery } from "@tanstack/react-query";
import type { SuggestedLoad } from "@undercoat/core/api/api";
import { itemOf } from "@undercoat/core/dataset/item";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { durationWords } from "@undercoat/core/schedule/duration";
import { queries } from "../api/queries.ts";
import { KeyEditor, ModeEditor, TargetEditor, WatermarkEditor } from "../pipeline/editors.tsx";
import { Phrase } from "../pipeline/Phrase.tsx";

interface Props {
  suggested: SuggestedLoad;
  warehouse: string;
  /** what is wrong with a part of the load, as the server said when it was last asked to make it */
  wrong: (...path: string[]) => string | undefined;
  onSet: (load: Load) => void;
}

/** A load as it is suggested: target, mode, key and watermark are changed where they stand. */
export function SuggestedRow({ suggested: { name, load, why }, warehouse, wrong, onSet }: Props) {
  const { schema, table } = itemOf(load.from) ?? { schema: "", table: "" };
  const dataset = useQuery(queries.dataset({ connection: load.from.connection, schema, table }));
  const columns = (dataset.data?.columns ?? []).map((column) => ({
    name: column.name,
    source: column.name,
    computed: false,
    type: column.fits ?? column.warehouseType,
    given: column.warehouseType,
    key: false,
    notNull: column.notNull,
  }));
  const tracked = dataset.data?.proposal?.tracked ?? false;
  const props = (close: () => void) => ({
    load,
    warehouse,
    preview: { columns, sourceColumns: columns, late: null, rows: [], tracked },
    onSet,
    close,
  });
  const { into, watermark } = load;
  return (
    <tr>
      <td className="mono">{load.from.table ?? load.from.files ?? load.from.path}</td>
      <td className="mono">
        <Phrase
          label={`Target of ${name}`}
          wrong={wrong("into", "table")}
          editor={(close) => <TargetEditor {...props(close)} />}
        >
          {into.table}
        </Phrase>
      </td>
      <td>
        <Phrase
          label={`Mode of ${name}`}
          wrong={wrong("into", "mode")}
          width={360}
          editor={(close) => <ModeEditor {...props(close)} />}
        >
          {into.mode}
        </Phrase>
      </td>
      <td className="mono">
        <Phrase
          label={`Key of ${name}`}
          wrong={wrong("into", "key")}
          editor={(close) => <KeyEditor {...props(close)} />}
        >
          {into.key?.join(", ") ?? "none"}
        </Phrase>
      </td>
      <td>
        <Phrase
          label={`Watermark of ${name}`}
          wrong={wrong("watermark")}
          editor={(close) => <WatermarkEditor {...props(close)} />}
        >
          {watermark ? (
            <>
              <span className="mono">{watermark.column}</span>
              {watermark.lookBack && ` less ${durationWords(watermark.lookBack)}`}
            </>
          ) : tracked && into.mode !== "replace" ? (
            "what changed, as it is told"
          ) : (
            "whole table"
          )}
        </Phrase>
      </td>
      <td className="quiet">{why}</td>
    </tr>
  );
}
