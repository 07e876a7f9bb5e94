import { TextInput } from "@mantine/core";
import type { HttpSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { SignInFields, signInInitial, signInSettings, webWrong } from "./web.tsx";

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
      <TextInput
        label="Description (OpenAPI 3)"
        description="Its address, or a path below the one above; without one, paths are looked at one by one"
        placeholder="/openapi.json"
        classNames={{ input: "mono" }}
        {...props.form.getInputProps("fields.describe")}
      />
      <SignInFields {...props} />
    </>
  ),
};
