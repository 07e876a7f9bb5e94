import { CopyButton } from "@mantine/core";
import type { Given } from "@undercoat/core/parameter/resolve";
import type { GivenValue } from "@undercoat/core/parameter/value";

/** A command to paste into a shell, copied by a click; the title shows it. */
export function CommandLink({ command }: { command: string }) {
  return (
    <CopyButton value={command}>
      {({ copied, copy }) => (
        <button type="button" className="link" title={command} onClick={copy}>
          {copied ? "Copied" : "Copy as a command"}
        </button>
      )}
    </CopyButton>
  );
}

/** The command that does what a run of some of a pipeline's loads does. */
export function runCommand(
  does: "run" | "rehearse" | "prove",
  pipeline: string,
  loads: readonly string[] | null,
  ...more: string[]
): string {
  return ["./undercoat", does, pipeline, ...(loads ?? []).map((load) => `--load ${load}`), ...more].join(" ");
}

const quoted = (text: string) => (/^[\w.:@/=,-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);

/** The options that give a command some values. */
export function givenOptions({ set, values = {}, settings = {} }: Given): string[] {
  const told = (value: GivenValue) => (Array.isArray(value) ? JSON.stringify(value) : String(value));
  return [
    ...(set ? [`--values ${quoted(set)}`] : []),
    ...Object.entries(values).map(([name, value]) => `--value ${quoted(`${name}=${told(value)}`)}`),
    ...Object.entries(settings).map(([address, name]) => `--set ${quoted(`${address}=${name}`)}`),
  ];
}
