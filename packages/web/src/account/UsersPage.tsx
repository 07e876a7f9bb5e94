import { Button, Modal, PasswordInput, Select, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { Role, User } from "@undercoat/core/api/api";
import { useState } from "react";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { counted } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { ErrorNote } from "../parts/words.tsx";

const roles: { value: Role; label: string }[] = [
  { value: "viewer", label: "viewer: sees everything" },
  { value: "editor", label: "editor: changes and runs" },
  { value: "administrator", label: "administrator: accounts too" },
];

function NewUser({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const form = useForm({
    initialValues: { login: "", name: "", role: "viewer" as Role, password: "" },
    validate: {
      login: (value) => (/^[a-z0-9._@-]{2,64}$/.test(value) ? null : "Small letters, digits and . _ @ -"),
      name: (value) => (value.trim() ? null : "The name others see"),
      password: (value) => (value.length >= 10 ? null : "At least 10 characters"),
    },
  });
  const make = useMutation({
    mutationFn: () => answer(server.users.$post({ json: form.values })),
    onSuccess: () => {
      refresh(client, queries.users().queryKey);
      onClose();
    },
    onError: (failed) =>
      failed instanceof ApiProblem &&
      form.setErrors(
        Object.fromEntries(
          (failed.problem.problems ?? []).map((problem) => [String(problem.path[0]), problem.message]),
        ),
      ),
  });
  return (
    <Modal opened onClose={onClose} title="A new account">
      <form onSubmit={form.onSubmit(() => make.mutate())} style={{ display: "grid", gap: 12 }}>
        <TextInput label="Sign-in name" data-autofocus autoComplete="off" {...form.getInputProps("login")} />
        <TextInput label="Name" autoComplete="off" {...form.getInputProps("name")} />
        <Select label="Role" data={roles} allowDeselect={false} {...form.getInputProps("role")} />
        <PasswordInput label="First password" autoComplete="new-password" {...form.getInputProps("password")} />
        <ErrorNote error={make.error instanceof ApiProblem && make.error.problem.problems ? null : make.error} />
        <Button type="submit" loading={make.isPending}>
          Make the account
        </Button>
      </form>
    </Modal>
  );
}

export default function UsersPage() {
  const client = useQueryClient();
  const [adding, setAdding] = useState(false);
  const { data, error } = useQuery(queries.users());
  const change = useMutation({
    mutationFn: ({ id, ...change }: { id: number } & Partial<User>) =>
      answer(server.users[":id"].$patch({ ...path({ id: String(id) }), json: change })),
    onSettled: () => refresh(client, queries.users().queryKey),
  });
  return (
    <Page
      title="Users"
      heading={data ? counted(data.filter((user) => user.active).length, "active account") : "Users"}
      about="A viewer sees everything, an editor changes and runs, an administrator keeps the accounts."
      actions={<Button onClick={() => setAdding(true)}>New account</Button>}
    >
      <ErrorNote error={error ?? change.error} />
      {data && (
        <table className="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>Sign-in name</th>
              <th>Role</th>
              <th>State</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {data.map((user) => (
              <tr key={user.id}>
                <td className="strong">{user.name}</td>
                <td className="mono">{user.login}</td>
                <td>
                  <Select
                    size="xs"
                    aria-label={`Role of ${user.name}`}
                    data={roles}
                    value={user.role}
                    allowDeselect={false}
                    onChange={(role) => role && change.mutate({ id: user.id, role: role as Role })}
                    w={230}
                  />
                </td>
                <td>{user.active ? "active" : <span className="quiet">closed: can't sign in</span>}</td>
                <td className="right">
                  <Button
                    size="xs"
                    variant="default"
                    onClick={() => change.mutate({ id: user.id, active: !user.active })}
                  >
                    {user.active ? "Close" : "Open again"}
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {adding && <NewUser onClose={() => setAdding(false)} />}
    </Page>
  );
}
