import { CopyButton } from "@mantine/core";

/** SQL as it is run, to read and to copy. */
export function SqlText({ sql, label = "SQL" }: { sql: string; label?: string }) {
  return (
    <div>
      <pre className="sql" tabIndex={0} role="region" aria-label={label}>
        {sql}
      </pre>
      <CopyButton value={sql}>
        {({ copied, copy }) => (
          <button type="button" className="link" onClick={copy}>
            {copied ? "Copied" : "Copy"}
          </button>
        )}
      </CopyButton>
    </div>
  );
}
