import { CopyButton } from "@mantine/core";

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
