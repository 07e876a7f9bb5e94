import { TextInput } from "@mantine/core";
import type { FilesSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";

export const files: KindForm<FilesSettings> = {
  title: "Files in a folder",
  warehouse: false,
  password: false,
  initial: ({ path }) => ({ path: path ?? "" }),
  wrong: { path: (value) => (value.trim() ? null : "Which folder the files lie in") },
  settings: ({ path = "" }) => ({ kind: "files", path: path.trim() }),
  Fields: ({ form }) => (
    <TextInput
      label="Folder"
      description="Below the one that the administrator allows (UNDERCOAT_FILES), such as fares"
      classNames={{ input: "mono" }}
      {...form.getInputProps("fields.path")}
    />
  ),
};
