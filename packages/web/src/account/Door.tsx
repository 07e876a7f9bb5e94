import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { Me } from "@undercoat/core/api/api";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answer, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { Mark } from "../parts/Mark.tsx";
import { ErrorNote } from "../parts/words.tsx";

/** The way in: a one-time link, a name and password, or, on a new installation, the first account by the link that was printed. */
export default function Door({ needsSetup: noAccounts }: { needsSetup: boolean }) {
  const client = useQueryClient();
  const [setup, setSetup] = useState<string | null>(null);
  const needsSetup = setup !== null;
  const navigate = useNavigate();
  const form = useForm({
    initialValues: { login: "", name: "", password: "" },
    validate: needsSetup
      ? {
          login: (value) => (/^[a-z0-9._@-]{2,64}$/.test(value) ? null : "Small letters, digits and . _ @ -"),
          name: (value) => (value.trim() ? null : "Your name, as others see it"),
          password: (value) => (value.length >= 10 ? null : "At least 10 characters"),
        }
      : {},
  });
  const enter = useMutation({
    mutationFn: (way: () => Promise<Me>) => way(),
    onSuccess: (me) => {
      if (location.pathname === "/link") navigate("/", { replace: true });
      client.setQueryData(queries.me().queryKey, me);
    },
  });
  const link = useMutation({
    mutationFn: (token: string) => answer(server.session.link.$post({ json: { token } })),
    onSuccess: ({ setup, ...me }, token) => (setup ? setSetup(token) : enter.mutate(async () => me)),
  });
  const { mutate } = link;
  useEffect(() => {
    if (location.pathname === "/link" && location.hash.length > 1) {
      const token = location.hash.slice(1);
      history.replaceState(null, "", "/link");
      mutate(token);
    }
  }, [mutate]);
  return (
    <main className="door">
      <form
        onSubmit={form.onSubmit(({ login, name, password }) =>
          enter.mutate(() =>
            answer(
              setup === null
                ? server.session.$post({ json: { login, password } })
                : server.session.setup.$post({ json: { token: setup, login, name, password } }),
            ),
          ),
        )}
      >
        <div className="actions">
          <Mark state="proved" />
          <h1>Undercoat</h1>
        </div>
        <p className="quiet">
          {needsSetup
            ? "Nobody has an account here yet. This one is the administrator's."
            : noAccounts
              ? "Nobody has an account here yet. Open the link that was printed when the server started, or make one with ./undercoat account."
              : "Every load proves itself. Sign in to see how things stand."}
        </p>
        <TextInput
          label="Sign-in name"
          autoComplete="username"
          required
          withAsterisk={false}
          autoFocus
          {...form.getInputProps("login")}
        />
        {needsSetup && <TextInput label="Your name" autoComplete="name" {...form.getInputProps("name")} />}
        <PasswordInput
          label="Password"
          autoComplete={needsSetup ? "new-password" : "current-password"}
          required
          withAsterisk={false}
          {...form.getInputProps("password")}
        />
        <ErrorNote error={link.error ?? enter.error} />
        <Button type="submit" loading={enter.isPending}>
          {needsSetup ? "Make the account" : "Sign in"}
        </Button>
      </form>
    </main>
  );
}
