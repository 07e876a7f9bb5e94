import { Modal, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { Finding } from "@undercoat/core/api/api";
import { useState } from "react";
import { useNavigate } from "react-router";
import { queries } from "../api/queries.ts";
import { matches } from "./Filter.tsx";

const pages: Finding[] = [
  { kind: "page", title: "Ledger", detail: "how things stand", to: "/" },
  { kind: "page", title: "Pipelines", detail: "what is loaded, and how", to: "/pipelines" },
  { kind: "page", title: "Runs", detail: "everything that ran", to: "/runs" },
  { kind: "page", title: "Rejected rows", detail: "what loads turned away, and why", to: "/rejected" },
  { kind: "page", title: "Proofs", detail: "source against warehouse", to: "/proofs" },
  { kind: "page", title: "Warehouse", detail: "its tables", to: "/warehouse" },
  { kind: "page", title: "Schedules", detail: "what runs when", to: "/schedules" },
  { kind: "page", title: "Messages", detail: "who is told of what", to: "/messages" },
  { kind: "page", title: "Workers", detail: "who takes runs", to: "/workers" },
  { kind: "page", title: "Connections", detail: "outside systems", to: "/connections" },
];

const field = (input: HTMLInputElement | null) => input?.focus();

/** Finds pipelines, tables, connections and runs by a part of their name. */
export function Find({ onClose }: { onClose: () => void }) {
  const [wanted, setWanted] = useState("");
  const [at, setAt] = useState(0);
  const [asked] = useDebouncedValue(wanted, 80);
  const navigate = useNavigate();
  const { data } = useQuery({
    ...queries.found(asked),
    placeholderData: keepPreviousData,
  });
  const matching = pages.filter((page) => matches(wanted, page.title));
  const found = wanted.trim() ? [...(data ?? []), ...matching] : pages;
  const open = (finding: Finding | undefined) => {
    if (!finding) return;
    onClose();
    navigate(finding.to);
  };
  return (
    <Modal
      opened
      onClose={onClose}
      withCloseButton={false}
      size="lg"
      padding="sm"
      yOffset="8vh"
      transitionProps={{ duration: 0 }}
      aria-label="Find anything"
    >
      <TextInput
        aria-label="Find anything"
        placeholder="A pipeline, table, connection or run"
        value={wanted}
        // At once, so that no key typed after the one that opened it is lost.
        ref={field}
        data-autofocus
        role="combobox"
        aria-expanded="true"
        aria-controls="findings"
        aria-activedescendant={found.length ? `finding-${at}` : undefined}
        onChange={(event) => {
          setWanted(event.currentTarget.value);
          setAt(0);
        }}
        onKeyDown={(event) => {
          if (event.key === "ArrowDown" || event.key === "ArrowUp") {
            event.preventDefault();
            setAt((before) => Math.max(0, Math.min(found.length - 1, before + (event.key === "ArrowDown" ? 1 : -1))));
          }
          if (event.key === "Enter") open(found[at]);
        }}
      />
      <div
        id="findings"
        role="listbox"
        aria-label="Findings"
        style={{ marginTop: 8, maxHeight: 420, overflow: "auto" }}
      >
        {found.map((finding, index) => (
          <button
            type="button"
            key={`${finding.kind} ${finding.to} ${finding.title}`}
            id={`finding-${index}`}
            role="option"
            aria-selected={index === at}
            tabIndex={-1}
            className="finding"
            onClick={() => open(finding)}
            onMouseMove={() => setAt(index)}
          >
            <span className="quiet">{finding.kind}</span>
            <span className={finding.kind === "table" ? "mono strong" : "strong"}>{finding.title}</span>
            <span className="quiet">{finding.detail}</span>
          </button>
        ))}
      </div>
      {found.length === 0 && <p className="quiet">Nothing has that in its name.</p>}
    </Modal>
  );
}
