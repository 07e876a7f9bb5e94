import { TextInput } from "@mantine/core";
import type { ODataSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { SignInFields, signInInitial, signInSettings, webWrong } from "./web.tsx";

export const odata: KindForm<ODataSettings> = {
  title: "A service of OData 4",
  warehouse: false,
  password: true,
  initial: signInInitial,
  wrong: webWrong,
  settings: (fields) => ({ kind: "odata", ...signInSettings(fields) }),
  Fields: (props) => (
    <>
      <TextInput
        label="Address"
        description="The service's root; $metadata stands right below it"
        placeholder="https://crew.example/odata/v4/"
        classNames={{ input: "mono" }}
        {...props.form.getInputProps("fields.url")}
      />
      <SignInFields {...props} />
    </>
  ),
};
