import { TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import type { HttpSettings } from "@undercoat/core/pipeline/pipeline";
import { answer, server } from "../../api/client.ts";
import { ErrorNote } from "../../parts/words.tsx";
import type { FieldsProps, KindForm } from "./kind.ts";
import { SignInFields, signInFields, signInInitial, signInSettings, webWrong } from "./web.tsx";

/** Where an application's description is, and what it says of signing in. */
function Description({ form }: FieldsProps) {
  const { name, fields } = form.values;
  const ask = useMutation({
    mutationFn: () =>
      answer(
        server.connections["sign-in"].$post({
          json: {
            ...(name ? { name } : {}),
            kind: "http",
            url: (fields.url ?? "").trim(),
            describe: (fields.describe ?? "").trim(),
          },
        }),
      ),
    onSuccess: ({ ways: [first] }) => {
      if (first) form.setValues({ fields: { ...form.values.fields, ...signInFields(first) } });
    },
  });
  const ready = fields.url?.trim() && fields.describe?.trim();
  return (
    <div>
      <TextInput
        label="Description (OpenAPI 3)"
        description="Its address, or a path below the one above; without one, paths are looked at one by one"
        placeholder="/openapi.json"
        classNames={{ input: "mono" }}
        {...form.getInputProps("fields.describe")}
      />
      {ready && (
        <p className="quiet" style={{ margin: "4px 0 0" }} role="status">
          {ask.data ? (
            ask.data.ways.length > 0 ? (
              `${ask.data.title} says how it is signed in to; the fields below hold it.`
            ) : (
              `${ask.data.title} does not say how it is signed in to.`
            )
          ) : (
            <button type="button" className="link" disabled={ask.isPending} onClick={() => ask.mutate()}>
              Fill in how it is signed in to
            </button>
          )}
        </p>
      )}
      <ErrorNote error={ask.error} />
    </div>
  );
}

export const http: KindForm<HttpSettings> = {
  title: "An application over HTTP",
  warehouse: false,
  password: true,
  initial: (settings) => ({ ...signInInitial(settings), describe: settings.describe ?? "" }),
  wrong: webWrong,
  settings: (fields) => ({
    kind: "http",
    ...signInSettings(fields),
    ...(fields.describe?.trim() ? { describe: fields.describe.trim() } : {}),
  }),
  Fields: (props) => (
    <>
      <TextInput
        label="Address"
        description="Every path is below it"
        placeholder="https://gate.example/api"
        classNames={{ input: "mono" }}
        {...props.form.getInputProps("fields.url")}
      />
      <Description {...props} />
      <SignInFields {...props} />
    </>
  ),
};
