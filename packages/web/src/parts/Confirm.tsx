import { Button, Group, Modal, Stack, TextInput } from "@mantine/core";
import { type ReactNode, useState } from "react";

interface Props {
  title: string;
  /** what will happen, and what will not */
  children: ReactNode;
  /** the name to type */
  name: string;
  action: string;
  onClose: () => void;
  onConfirm: () => void;
}

/** Asks for a name before something is gone for good. */
export function Confirm({ title, children, name, action, onClose, onConfirm }: Props) {
  const [typed, setTyped] = useState("");
  return (
    <Modal opened onClose={onClose} title={title} centered>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (typed === name) onConfirm();
        }}
      >
        <Stack gap="sm">
          <div>{children}</div>
          <TextInput
            label={`Type ${name} to confirm`}
            value={typed}
            onChange={(event) => setTyped(event.currentTarget.value)}
            data-autofocus
          />
          <Group justify="flex-end">
            <Button variant="default" onClick={onClose}>
              Keep it
            </Button>
            <Button type="submit" disabled={typed !== name}>
              {action}
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
