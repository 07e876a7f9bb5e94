import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { TokenSummary } from "@undercoat/core/api/api";
import { useState } from "react";
import { api } from "../api/client.ts";
import { counted, moment } from "../parts/format.ts";
import { SqlText } from "../parts/SqlText.tsx";
import { ErrorNote } from "../parts/words.tsx";

export default function TokensPage() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const { data, error } = useQuery({ queryKey: ["tokens"], queryFn: () => api.get<TokenSummary[]>("/tokens") });
  const refresh = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({ mutationFn: () => api.post<{ token: string }>("/tokens", { name }), onSuccess: () => { setName(""); refresh(); } });
  const end = useMutation({ mutationFn: (id: number) => api.delete(`/tokens/${id}`), onSuccess: refresh });
  return (
    <main className="page">
      <div className="head">
        <div>
          <h1>{data ? `${counted(data.length, "token")} for the command line` : "Command-line tokens"}</h1>
          <p className="quiet">A token acts as you do. Set UNDERCOAT_URL to {location.origin} and UNDERCOAT_TOKEN to the token where you run undercoat.</p>
        </div>
      </div>
      <ErrorNote error={error ?? make.error ?? end.error} />
      <form
        className="actions"
        style={{ alignItems: "flex-end", marginBottom: 16 }}
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) make.mutate();
        }}
      >
        <TextInput label="What it is for" placeholder="nightly build" value={name} onChange={(event) => setName(event.currentTarget.value)} w={260} />
        <Button type="submit" disabled={!name.trim()} loading={make.isPending}>
          Make a token
        </Button>
      </form>
      {make.data && (
        <div className="note" style={{ marginBottom: 16 }}>
          <p className="strong">Copy it now: it is not shown again.</p>
          <SqlText sql={make.data.token} label="The new token" />
        </div>
      )}
      {data && data.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>For</th>
              <th>Made</th>
              <th>Last used</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {data.map((token) => (
              <tr key={token.id}>
                <td>{token.name}</td>
                <td>{moment(token.createdAt)}</td>
                <td>{moment(token.lastUsedAt)}</td>
                <td className="right">
                  <Button size="xs" variant="default" onClick={() => end.mutate(token.id)}>
                    End it
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </main>
  );
}
