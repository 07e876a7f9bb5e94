import { Popover } from "@mantine/core";
import { type ReactNode, useState } from "react";

interface Props {
  /** what the phrase says */
  children: ReactNode;
  /** what it is, for those who hear the page */
  label: string;
  wrong?: string;
  fixed?: boolean;
  width?: number;
  editor: (close: () => void) => ReactNode;
}

/** A part of a sentence that is changed in place. */
export function Phrase({ children, label, wrong, fixed, width = 320, editor }: Props) {
  const [open, setOpen] = useState(false);
  if (fixed) return <span className="strong">{children}</span>;
  return (
    <>
      <Popover
        opened={open}
        onChange={setOpen}
        position="bottom-start"
        withArrow
        shadow="md"
        trapFocus
        returnFocus
        width={width}
        withinPortal
      >
        <Popover.Target>
          <button
            type="button"
            className={`phrase${wrong ? " wrong" : ""}`}
            aria-label={label}
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {children}
          </button>
        </Popover.Target>
        <Popover.Dropdown>{open && editor(() => setOpen(false))}</Popover.Dropdown>
      </Popover>
      {wrong && <span className="wrong-text"> ({wrong})</span>}
    </>
  );
}

/** A part of a sentence that opens something larger than fits beside it. */
export function PhraseButton({
  children,
  label,
  fixed,
  onClick,
}: Pick<Props, "children" | "label" | "fixed"> & { onClick: () => void }) {
  if (fixed) return <span className="strong">{children}</span>;
  return (
    <button type="button" className="phrase" aria-label={label} aria-haspopup="dialog" onClick={onClick}>
      {children}
    </button>
  );
}
