import { NumberInput, Textarea, TextInput } from "@mantine/core";
import type { ModuleSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { Pair } from "./network.tsx";

/** Settings as lines of `name: value`; what reads as a number, or true or false, is one. */
function settingsOf(text: string): NonNullable<ModuleSettings["settings"]> {
  const value = (given: string) =>
    given === "true"
      ? true
      : given === "false"
        ? false
        : /^-?\d{1,15}(\.\d{1,10})?$/.test(given)
          ? Number(given)
          : given;
  return Object.fromEntries(
    text
      .split("\n")
      .map((line) => line.split(/:(.*)/s))
      .filter(([name]) => name?.trim())
      .map(([name = "", given = ""]) => [name.trim(), value(given.trim())]),
  );
}

export const module: KindForm<ModuleSettings> = {
  title: "A module of your own",
  warehouse: false,
  password: false,
  initial: ({ file, settings, hosts, seconds, megabytes }) => ({
    file: file ?? "",
    settings: Object.entries(settings ?? {})
      .map(([name, value]) => `${name}: ${value}`)
      .join("\n"),
    hosts: (hosts ?? []).join(" "),
    seconds: String(seconds ?? 600),
    megabytes: String(megabytes ?? 256),
  }),
  wrong: { file: (value) => (/\.(mjs|js|ts)$/.test(value.trim()) ? null : "A file that ends in .mjs, .js or .ts") },
  settings: ({ file = "", settings = "", hosts = "", seconds, megabytes }) => {
    const given = settingsOf(settings);
    const places = hosts.split(/[\s,]+/).filter(Boolean);
    return {
      kind: "module",
      file: file.trim(),
      ...(Object.keys(given).length ? { settings: given } : {}),
      ...(places.length ? { hosts: places } : {}),
      ...(Number(seconds) === 600 ? {} : { seconds: Number(seconds) }),
      ...(Number(megabytes) === 256 ? {} : { megabytes: Number(megabytes) }),
    };
  },
  Fields: ({ form }) => (
    <>
      <TextInput
        label="File"
        description="In the folder of modules (UNDERCOAT_MODULES); ./undercoat module NAME writes one to begin with"
        placeholder="tides.mjs"
        classNames={{ input: "mono" }}
        {...form.getInputProps("fields.file")}
      />
      <Textarea
        label="Settings"
        description="A line each, handed to the module as they are; nothing secret, they can be read by everybody here"
        placeholder="station: KIL"
        autosize
        minRows={2}
        classNames={{ input: "mono" }}
        {...form.getInputProps("fields.settings")}
      />
      <TextInput
        label="Hosts it may ask"
        description="With spaces between; an administrator lists them"
        placeholder="tides.example:443"
        classNames={{ input: "mono" }}
        {...form.getInputProps("fields.hosts")}
      />
      <Pair>
        <NumberInput label="Seconds, at most" min={1} allowDecimal={false} {...form.getInputProps("fields.seconds")} />
        <NumberInput
          label="Megabytes, at most"
          min={32}
          allowDecimal={false}
          {...form.getInputProps("fields.megabytes")}
        />
      </Pair>
    </>
  ),
};
