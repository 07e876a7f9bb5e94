import { Textarea, TextInput } from "@mantine/core";
import type { SftpSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { HostFields, kept, Pair } from "./network.tsx";

export const sftp: KindForm<SftpSettings> = {
  title: "A drop over SFTP",
  warehouse: false,
  password: true,
  initial: ({ host, port, user, path, hostKey }) => ({
    host: host ?? "127.0.0.1",
    port: String(port ?? 22),
    user: user ?? "",
    path: path ?? "",
    hostKey: hostKey ?? "",
  }),
  wrong: {
    host: (value) => (value.trim() ? null : "Where the host is"),
    user: (value) => (value.trim() ? null : "Who signs in there"),
    path: (value) => (value.trim() ? null : "Which folder the files lie in"),
  },
  settings: ({ host = "", port, user = "", path = "", hostKey = "" }) => ({
    kind: "sftp",
    host: host.trim(),
    port: Number(port),
    user,
    path: path.trim(),
    ...(hostKey.trim() ? { hostKey: hostKey.trim() } : {}),
  }),
  Fields: (props) => (
    <>
      <HostFields {...props} />
      <Pair>
        <TextInput label="User" autoComplete="off" {...props.form.getInputProps("fields.user")} />
        <TextInput
          label="Folder"
          placeholder="/out"
          classNames={{ input: "mono" }}
          {...props.form.getInputProps("fields.path")}
        />
      </Pair>
      <Textarea
        label="Password, or a private key's whole text"
        autoComplete="off"
        spellCheck={false}
        autosize
        minRows={1}
        maxRows={4}
        placeholder={kept(props.connection)}
        classNames={{ input: "mono covered" }}
        {...props.form.getInputProps("password")}
      />
      <TextInput
        label="The host's key"
        description="Its fingerprint. Check it to be shown the one that the host has, and accept that; no other is signed in to."
        placeholder="SHA256:…"
        classNames={{ input: "mono" }}
        {...props.form.getInputProps("fields.hostKey")}
      />
    </>
  ),
};
