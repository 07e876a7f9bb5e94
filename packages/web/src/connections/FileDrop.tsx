import { Button, Progress } from "@mantine/core";
import { Dropzone } from "@mantine/dropzone";
import { IconCheck, IconFileUpload, IconX } from "@tabler/icons-react";
import { useQueryClient } from "@tanstack/react-query";
import type { ProblemDetails } from "@undercoat/core/api/api";
import { useRef, useState } from "react";
import { ApiProblem } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { bytes } from "../parts/format.ts";

/** A file on its way to the folder. */
interface Sending {
  file: File;
  sent: number;
  state: "waiting" | "sending" | "there" | "failed" | "exists";
  says: string | null;
}

/** Sends a file as it is; told how far it is. Rejects with what the server said. */
function send(connection: string, file: File, replace: boolean, told: (sent: number) => void, ended: AbortSignal) {
  return new Promise<void>((done, fail) => {
    // Only this way of asking tells how much has gone out.
    const request = new XMLHttpRequest();
    const query = new URLSearchParams({ file: file.name, ...(replace ? { replace: "yes" } : {}) });
    request.open("PUT", `/api/connections/${encodeURIComponent(connection)}/files?${query}`);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = ({ loaded }) => told(loaded);
    request.onload = () => {
      if (request.status < 300) return done();
      let problem: ProblemDetails = { type: "about:blank", title: "The server refused it", status: request.status };
      try {
        problem = JSON.parse(request.responseText);
      } catch {
        // It did not say why in words.
      }
      fail(new ApiProblem(problem));
    };
    request.onerror = () => fail(new Error("The connection was cut; nothing of it was kept"));
    request.onabort = () => fail(new Error("Stopped; nothing of it was kept"));
    ended.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}

const icons = {
  there: <IconCheck size={16} aria-label="there" />,
  failed: <IconX size={16} aria-label="failed" />,
};

/** Takes files that are dropped onto it, or chosen, one after another. */
export function FileDrop({ connection }: { connection: string }) {
  const client = useQueryClient();
  const [list, setList] = useState<Sending[]>([]);
  const stop = useRef<AbortController | null>(null);
  const put = (file: File, change: Partial<Sending>) =>
    setList((before) => before.map((one) => (one.file === file ? { ...one, ...change } : one)));
  const bring = async (files: File[], replace: boolean) => {
    stop.current ??= new AbortController();
    for (const file of files) {
      put(file, { state: "sending", says: null });
      try {
        await send(connection, file, replace, (sent) => put(file, { sent }), stop.current.signal);
        put(file, { state: "there", sent: file.size });
      } catch (error) {
        const exists = error instanceof ApiProblem && error.problem.status === 409;
        const hint = error instanceof ApiProblem && !exists ? error.problem.hint : undefined;
        put(file, {
          state: exists ? "exists" : "failed",
          says: [(error as Error).message, hint].filter(Boolean).join(". "),
        });
      }
    }
    stop.current = null;
    refresh(client, queries.datasets(connection).queryKey);
  };
  const busy = list.some(({ state }) => state === "sending" || state === "waiting");
  return (
    <section aria-label="Files to bring" style={{ marginBottom: 14 }}>
      <Dropzone
        onDrop={(files) => {
          setList((before) => [
            ...before.filter((one) => !files.some((file) => file.name === one.file.name)),
            ...files.map((file): Sending => ({ file, sent: 0, state: "waiting", says: null })),
          ]);
          bring(files, false);
        }}
        disabled={busy}
        p="xs"
        radius="sm"
      >
        <div style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <IconFileUpload size={20} aria-hidden />
          <span>
            Drop files here, or choose them.{" "}
            <span className="quiet">CSV, JSON, Parquet or a workbook, packed or not.</span>
          </span>
        </div>
      </Dropzone>
      {list.length > 0 && (
        <ul
          aria-label="Files on their way"
          aria-live="polite"
          style={{ listStyle: "none", padding: 0, margin: "8px 0 0" }}
        >
          {list.map(({ file, sent, state, says }) => (
            <li
              key={file.name}
              style={{
                display: "grid",
                gridTemplateColumns: "minmax(0, 1fr) 170px 220px",
                gap: 12,
                alignItems: "center",
                minHeight: 28,
              }}
            >
              <span className="mono" style={{ overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>
                {file.name}
              </span>
              {state === "failed" || state === "exists" ? (
                <span className="lead" style={{ gridColumn: "2 / 4" }}>
                  {icons.failed} {says}{" "}
                  {state === "exists" && (
                    <Button size="compact-sm" variant="outline" onClick={() => bring([file], true)}>
                      Replace it
                    </Button>
                  )}
                </span>
              ) : (
                <>
                  <Progress value={file.size ? (sent / file.size) * 100 : 100} aria-label={`${file.name} is sent`} />
                  <span className="quiet">
                    {state === "there" ? (
                      <>
                        {icons.there} {bytes(String(file.size))}
                      </>
                    ) : (
                      `${bytes(String(sent))} of ${bytes(String(file.size))}`
                    )}
                  </span>
                </>
              )}
            </li>
          ))}
        </ul>
      )}
      {busy && (
        <Button size="compact-sm" variant="default" mt={6} onClick={() => stop.current?.abort()}>
          Stop
        </Button>
      )}
    </section>
  );
}
