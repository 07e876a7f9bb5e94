import { Progress } from "@mantine/core";
import type { Scan, ScanProgress } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { Failure } from "@undercoat/core/run/run";
import { useEffect, useRef, useState } from "react";
import { ApiProblem } from "../api/client.ts";
import { told } from "../api/told.ts";
import { bytes, counted } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";

interface Props {
  from: From;
  /** the types that are said, where any are */
  types: From["types"];
  /** of what the types are where nothing is said, in words */
  sample?: string;
  onFound(scan: Scan): void;
  onForget(): void;
}

/** Whether a sample tells the columns' types or all rows do; reads all of them when asked, and says how far it is. */
export function TypesScan({ from, types, sample = "a sample of 20,000 rows fits", onFound, onForget }: Props) {
  const [progress, setProgress] = useState<ScanProgress | null>(null);
  const [found, setFound] = useState<Scan | null>(null);
  const [error, setError] = useState<unknown>(null);
  const reading = useRef<AbortController | null>(null);
  useEffect(() => () => reading.current?.abort(), []);
  const scan = async () => {
    const asking = new AbortController();
    reading.current = asking;
    setError(null);
    setFound(null);
    setProgress({ rows: 0, bytes: 0, of: 0 });
    try {
      const { types: _, ...asked } = from;
      for await (const { event, data } of told(
        `/api/connections/${encodeURIComponent(from.connection)}/scan`,
        { from: asked },
        asking.signal,
      )) {
        if (event === "progress") setProgress(data as ScanProgress);
        if (event === "failed") {
          const { message, ...more } = data as Failure;
          throw new ApiProblem({ type: "about:blank", status: 422, title: message, ...more });
        }
        if (event === "done") {
          setFound(data as Scan);
          onFound(data as Scan);
        }
      }
    } catch (failed) {
      if (!asking.signal.aborted) setError(failed);
    } finally {
      setProgress(null);
    }
  };
  if (progress) {
    const share = progress.of ? (100 * progress.bytes) / progress.of : 0;
    return (
      <div role="status">
        <div className="quiet">
          {counted(progress.rows, "row")}, {bytes(progress.bytes)}
          {progress.of > 0 && ` of ${bytes(progress.of)}`} read.{" "}
          <button type="button" className="link" onClick={() => reading.current?.abort()}>
            Stop
          </button>
        </div>
        <Progress value={share} size="xs" mt={4} aria-label="Part of the files that is read" />
      </div>
    );
  }
  const again = (
    <button type="button" className="link" onClick={scan}>
      {types ? "Read all of it again" : "Read all of it"}
    </button>
  );
  return (
    <div className="quiet">
      {types ? (
        <>
          {found
            ? `Types that all ${counted(found.rows, "row")} fit${found.faults ? `; ${counted(found.faults, "line")} ${found.faults === 1 ? "is" : "are"} no row` : ""}.`
            : "Types are said for this load, as they were found by reading all of it."}{" "}
          {again} or{" "}
          <button type="button" className="link" onClick={onForget}>
            go by a sample
          </button>
          .
        </>
      ) : (
        <>
          Types are the narrowest that {sample}. {again} to be sure of them.
        </>
      )}
      <ErrorNote error={error} />
    </div>
  );
}
