import { Button, Stack } from "@mantine/core";
import type { FormEvent, ReactNode } from "react";

/** The form of a popover: Enter sets, Esc leaves it as it was. */
export function Form({
  onSubmit,
  children,
  disabled,
}: {
  onSubmit: () => void;
  children: ReactNode;
  disabled?: boolean;
}) {
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        event.stopPropagation();
        onSubmit();
      }}
      onKeyDown={(event) => {
        // In a field of several lines Enter is a line; Ctrl+Enter sets.
        if (event.key !== "Enter" || !(event.ctrlKey || event.metaKey) || disabled) return;
        event.preventDefault();
        event.stopPropagation();
        onSubmit();
      }}
    >
      <Stack gap="sm">
        {children}
        <div className="right">
          <Button type="submit" size="xs" disabled={disabled}>
            Set
          </Button>
        </div>
      </Stack>
    </form>
  );
}

/** Lists inside a popover stay inside it, so that choosing from one does not close it. */
export const inPopover = { comboboxProps: { withinPortal: false } };
