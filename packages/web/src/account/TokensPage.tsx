import { Button, PasswordInput, Select, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { tellFields } from "../parts/fields.ts";
import { counted, moment } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { SqlText } from "../parts/SqlText.tsx";
import { ErrorNote } from "../parts/words.tsx";
import { useMe } from "./me.ts";

/** How long a new token lasts. */
const lasting = [
  { value: "30", label: "30 days" },
  { value: "90", label: "90 days" },
  { value: "365", label: "a year" },
  { value: "3650", label: "ten years" },
];

function PasswordForm() {
  const form = useForm({
    initialValues: { current: "", next: "" },
    validate: { next: (value) => (value.length >= 10 ? null : "At least 10 characters") },
  });
  const change = useMutation({
    mutationFn: () => server.session.password.$post({ json: form.values }),
    onSuccess: () => form.reset(),
    onError: (failed) => tellFields(failed, form),
  });
  return (
    <section aria-labelledby="password">
      <h2 id="password">Your password</h2>
      <p className="quiet">Changing it ends your other sessions and tokens.</p>
      <form
        className="actions"
        style={{ alignItems: "flex-start", margin: "10px 0 0" }}
        onSubmit={form.onSubmit(() => change.mutate())}
      >
        <PasswordInput
          label="Now"
          description="Empty where you came by a link"
          autoComplete="current-password"
          w={260}
          {...form.getInputProps("current")}
        />
        <PasswordInput
          label="From now on"
          description="At least 10 characters"
          autoComplete="new-password"
          w={260}
          {...form.getInputProps("next")}
        />
        <Button type="submit" loading={change.isPending} mt={41}>
          Change it
        </Button>
      </form>
      {change.isSuccess && <p className="good">It is changed.</p>}
      {!(change.error instanceof ApiProblem && change.error.problem.problems) && <ErrorNote error={change.error} />}
    </section>
  );
}

export default function TokensPage() {
  const client = useQueryClient();
  const me = useMe();
  const [name, setName] = useState("");
  const [days, setDays] = useState("365");
  const { data, error } = useQuery(queries.tokens());
  const refreshed = () => refresh(client, queries.tokens().queryKey);
  const make = useMutation({
    mutationFn: () => answer(server.tokens.$post({ json: { name, days: Number(days) } })),
    onSuccess: () => {
      setName("");
      refreshed();
    },
  });
  const end = useMutation({
    mutationFn: (id: number) => server.tokens[":id"].$delete(path({ id: String(id) })),
    onSuccess: refreshed,
  });
  const everybody = me.user.role === "administrator";
  return (
    <Page
      title="Tokens"
      heading={data ? `${counted(data.length, "token")} for the command line` : "Command-line tokens"}
      about={
        <>
          A token acts as its owner does. Set UNDERCOAT_URL to {location.origin} and UNDERCOAT_TOKEN to the token where
          you run undercoat.{everybody ? " As an administrator you see everybody's." : ""}
        </>
      }
    >
      <ErrorNote error={error ?? make.error ?? end.error} />
      <form
        className="actions"
        style={{ alignItems: "flex-end", marginBottom: 16 }}
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) make.mutate();
        }}
      >
        <TextInput
          label="What it is for"
          placeholder="nightly build"
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
          w={260}
        />
        <Select
          label="It lasts"
          data={lasting}
          value={days}
          onChange={(value) => setDays(value ?? "365")}
          allowDeselect={false}
          w={130}
        />
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
        <table className="plain" style={{ marginBottom: 28 }}>
          <thead>
            <tr>
              <th>For</th>
              {everybody && <th>Whose</th>}
              <th>Made</th>
              <th>Last used</th>
              <th>Ends</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {data.map((token) => (
              <tr key={token.id}>
                <td>{token.name}</td>
                {everybody && <td>{token.user}</td>}
                <td>{moment(token.createdAt)}</td>
                <td>{moment(token.lastUsedAt)}</td>
                <td>{token.expiresAt ? moment(token.expiresAt) : "when you end it"}</td>
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
      <PasswordForm />
    </Page>
  );
}
