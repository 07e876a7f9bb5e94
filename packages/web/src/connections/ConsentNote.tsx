import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import type { ConnectionView } from "@undercoat/core/api/api";
import { useCanEdit } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { ErrorNote } from "../parts/words.tsx";

/** Whether somebody has consented that an application is read in their name, and the way there. */
export function ConsentNote({ connection }: { connection: ConnectionView }) {
  const canEdit = useCanEdit();
  const ask = useMutation({
    mutationFn: () => answer(server.connections[":name"].consent.$post(path({ name: connection.name }))),
    onSuccess: ({ address }) => window.location.assign(address),
  });
  const given = connection.consent === "given";
  const scopes = "auth" in connection ? connection.auth?.oauth?.scopes : undefined;
  return (
    <div className="panel" style={{ marginBottom: 14, display: "flex", gap: 18, alignItems: "center" }}>
      <span className={given ? "good" : "lead"}>
        {given
          ? "Somebody has consented that it is read in their name."
          : "Nobody has consented yet that it is read in their name."}{" "}
        {scopes && <span className="quiet">It asks for {scopes.join(", ")}.</span>}
      </span>
      {canEdit && (
        <Button variant={given ? "default" : "filled"} loading={ask.isPending} onClick={() => ask.mutate()}>
          {given ? "Consent again" : "Sign in and consent"}
        </Button>
      )}
      <ErrorNote error={ask.error} />
    </div>
  );
}
