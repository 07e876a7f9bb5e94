import {
  DndContext,
  type DragEndEvent,
  PointerSensor,
  useDraggable,
  useDroppable,
  useSensor,
  useSensors,
} from "@dnd-kit/core";
import { Button, Modal } from "@mantine/core";
import type { BothColumns } from "@undercoat/core/api/api";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { type PairSuggestion, scorePair, suggestPairs } from "@undercoat/core/shape/pair";
import { shortType } from "@undercoat/core/sql/type";
import { useMemo, useState } from "react";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted } from "../parts/format.ts";
import { isMissing, type ShapeColumn, shapeColumns, withColumns } from "./columns.ts";

interface Slot {
  name: string;
  /** what it takes; null while nothing is paired with it */
  column: ShapeColumn | null;
  /** the type it has in the warehouse, where it is there already */
  type: string | null;
  refused: boolean;
}

function slotsOf(load: Load, both: BothColumns): Slot[] {
  const known = new Set(both.held?.map((column) => column.name));
  // Where nothing is said yet and the target has names of its own, only what has the same name is paired; the rest is suggested.
  const columns = shapeColumns(load, both.source).filter(
    (column) => load.columns || !both.held || known.has(column.name),
  );
  const held = (both.held ?? []).filter((column) => column.name !== (load.into.deletions?.column ?? "deleted_at"));
  const named = new Map(columns.map((column) => [column.name, column]));
  const open = held
    .filter((column) => !named.has(column.name))
    .map((column) => ({ name: column.name, column: null, type: column.type, refused: false }));
  return [
    ...columns.map((column) => ({
      name: column.name,
      column,
      type: held.find((entry) => entry.name === column.name)?.type ?? null,
      refused: false,
    })),
    ...open,
  ];
}

function Source({
  name,
  type,
  used,
  picked,
  onPick,
}: {
  name: string;
  type: string;
  used: boolean;
  picked: boolean;
  onPick: () => void;
}) {
  const { setNodeRef, listeners, transform, isDragging } = useDraggable({ id: name });
  const style = transform
    ? { transform: `translate(${transform.x}px, ${transform.y}px)`, zIndex: 10, position: "relative" as const }
    : undefined;
  return (
    <button
      ref={setNodeRef}
      type="button"
      className={`pair-source${used ? " used" : ""}${isDragging ? " dragged" : ""}`}
      style={style}
      {...listeners}
      aria-pressed={picked}
      onClick={onPick}
    >
      <span className="mono">{name}</span> <span className="quiet">{shortType(type)}</span>
    </button>
  );
}

function Target({
  slot,
  missing,
  suggestion,
  picked,
  onPlace,
  onTake,
  onRefuse,
  onClear,
}: {
  slot: Slot;
  missing: boolean;
  suggestion: PairSuggestion | undefined;
  picked: string | null;
  onPlace: () => void;
  onTake: () => void;
  onRefuse: () => void;
  onClear: () => void;
}) {
  const { setNodeRef, isOver } = useDroppable({ id: slot.name });
  return (
    <tr ref={setNodeRef} className={isOver ? "over" : undefined}>
      <td className="mono">
        {slot.name} {slot.type && <span className="quiet">{shortType(slot.type)}</span>}
      </td>
      <td>
        {slot.column ? (
          <>
            <span className={missing ? "wrong-text mono" : "mono"}>{slot.column.as}</span>
            {missing && <div className="wrong-text">The source has no such column any more</div>}
          </>
        ) : suggestion ? (
          <span className="quiet">
            <span className="mono">{suggestion.source}</span>? {suggestion.why}
          </span>
        ) : (
          <span className="quiet">nothing yet</span>
        )}
      </td>
      <td className="right nowrap">
        {picked ? (
          <button type="button" className="link" onClick={onPlace}>
            Put {picked} here
          </button>
        ) : slot.column ? (
          <button type="button" className="link" onClick={onClear} aria-label={`Take the pair of ${slot.name} apart`}>
            Take apart
          </button>
        ) : (
          suggestion && (
            <span className="actions" style={{ justifyContent: "flex-end" }}>
              <button
                type="button"
                className="link"
                onClick={onTake}
                aria-label={`Take ${suggestion.source} for ${slot.name}`}
              >
                Take
              </button>
              <button
                type="button"
                className="link"
                onClick={onRefuse}
                aria-label={`Refuse ${suggestion.source} for ${slot.name}`}
              >
                Refuse
              </button>
            </span>
          )
        )}
      </td>
    </tr>
  );
}

interface Props {
  load: Load;
  both: BothColumns;
  busy: boolean;
  onRefresh: () => void;
  onSet: (load: Load) => void;
  onClose: () => void;
}

/** Pairs source columns with warehouse columns: by suggestion, by dragging, or by picking one up and putting it down. */
export function Pairing({ load, both, busy, onRefresh, onSet, onClose }: Props) {
  const [slots, setSlots] = useState(() => slotsOf(load, both));
  const [picked, setPicked] = useState<string | null>(null);
  const [wanted, setWanted] = useState("");
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 5 } }));
  // A column that an expression names is in use, too.
  const used = new Set(
    slots.flatMap((slot) =>
      slot.column ? [slot.column.as, ...(slot.column.as.match(/[\p{L}_][\p{L}\p{N}_]*/gu) ?? [])] : [],
    ),
  );
  const suggestions = useMemo(() => {
    const free = both.source.filter((column) => !slots.some((slot) => slot.column?.as === column.name));
    const open = slots
      .filter((slot) => (!slot.column || isMissing(slot.column, both.source)) && !slot.refused)
      .map((slot) => ({ name: slot.name, type: slot.type ?? "text" }));
    return new Map(suggestPairs(free, open).map((pair) => [pair.target, pair]));
  }, [both.source, slots]);
  const pair = (target: string, source: string) => {
    setSlots((now) =>
      now.map((slot) => {
        if (slot.name !== target) return slot;
        const given = both.source.find((column) => column.name === source)?.type ?? "text";
        const held = slot.type;
        // Where the target has another type, it is stated, so that values are checked against it.
        const type =
          held &&
          held !== given &&
          !scorePair({ name: source, type: given }, { name: target, type: held }).why.includes("fits")
            ? held
            : undefined;
        return { ...slot, column: { name: target, as: source, ...(type ? { type: shortType(type) } : {}) } };
      }),
    );
    setPicked(null);
  };
  const change = (name: string, next: Partial<Slot>) =>
    setSlots((now) => now.map((slot) => (slot.name === name ? { ...slot, ...next } : slot)));
  const free = both.source.filter((column) => !used.has(column.name));
  const shown = both.source.filter((column) => matches(wanted, column.name));
  const broken = slots.filter((slot) => slot.column && isMissing(slot.column, both.source));
  // A warehouse column that takes nothing any more is left out by name; else a column gone from the source would go on stopping the load.
  const unfilled = slots.some((slot) => !slot.column);
  const kept = slots.flatMap((slot) => (slot.column ? [slot.column] : []));
  const dropped = ({ active, over }: DragEndEvent) => {
    if (over) pair(String(over.id), String(active.id));
  };
  return (
    <Modal opened onClose={onClose} title="Pair columns" size={980}>
      <p className="quiet" style={{ marginBottom: 10 }}>
        Drag a source column onto a warehouse column; or pick it up with Enter and put it down on the other side.
        {broken.length > 0 && (
          <span className="wrong-text">
            {" "}
            {counted(broken.length, "pair")} no longer fit{broken.length === 1 ? "s" : ""} the source.
          </span>
        )}
      </p>
      <DndContext sensors={sensors} onDragEnd={dropped}>
        <div style={{ display: "grid", gridTemplateColumns: "300px minmax(0, 1fr)", gap: 20 }}>
          <section aria-label="Source columns">
            <div className="head" style={{ marginBottom: 6 }}>
              <h3>Source</h3>
              <button type="button" className="link" onClick={onRefresh} disabled={busy}>
                {busy ? "Reading" : "Read again"}
              </button>
            </div>
            <Filter of="source columns" size="xs" value={wanted} onChange={setWanted} mb={6} />
            <div style={{ maxHeight: 380, overflow: "auto", padding: 2 }}>
              {shown.map((column) => (
                <Source
                  key={column.name}
                  name={column.name}
                  type={column.type}
                  used={used.has(column.name)}
                  picked={picked === column.name}
                  onPick={() => setPicked(picked === column.name ? null : column.name)}
                />
              ))}
            </div>
          </section>
          <section aria-label="Warehouse columns">
            <div className="head" style={{ marginBottom: 6 }}>
              <h3>Warehouse</h3>
              <div className="actions">
                {suggestions.size > 0 && (
                  <>
                    <button
                      type="button"
                      className="link"
                      onClick={() => {
                        for (const one of suggestions.values()) pair(one.target, one.source);
                      }}
                    >
                      Take all {suggestions.size}
                    </button>
                    <button
                      type="button"
                      className="link"
                      onClick={() =>
                        setSlots((now) =>
                          now.map((slot) => (suggestions.has(slot.name) ? { ...slot, refused: true } : slot)),
                        )
                      }
                    >
                      Refuse all
                    </button>
                  </>
                )}
                {free.length > 0 && (
                  <button
                    type="button"
                    className="link"
                    onClick={() => {
                      const names = new Set(slots.map((slot) => slot.name));
                      setSlots([
                        ...slots,
                        ...free
                          .filter((column) => !names.has(column.name))
                          .map((column) => ({
                            name: column.name,
                            column: { name: column.name, as: column.name },
                            type: null,
                            refused: false,
                          })),
                      ]);
                    }}
                  >
                    Add the {counted(free.length, "column")} not used
                  </button>
                )}
              </div>
            </div>
            <div style={{ maxHeight: 420, overflow: "auto" }} tabIndex={0} role="region" aria-label="Pairs">
              <table className="plain">
                <thead>
                  <tr>
                    <th>Warehouse column</th>
                    <th>takes</th>
                    <td />
                  </tr>
                </thead>
                <tbody>
                  {slots.map((slot) => (
                    <Target
                      key={slot.name}
                      slot={slot}
                      missing={slot.column !== null && isMissing(slot.column, both.source)}
                      suggestion={suggestions.get(slot.name)}
                      picked={picked}
                      onPlace={() => picked && pair(slot.name, picked)}
                      onTake={() => pair(slot.name, suggestions.get(slot.name)?.source ?? "")}
                      onRefuse={() => change(slot.name, { refused: true })}
                      onClear={() => change(slot.name, { column: null, refused: true })}
                    />
                  ))}
                </tbody>
              </table>
            </div>
          </section>
        </div>
      </DndContext>
      <div className="actions" style={{ justifyContent: "flex-end", marginTop: 16 }}>
        <Button variant="default" onClick={onClose}>
          Cancel
        </Button>
        <Button disabled={kept.length === 0} onClick={() => onSet(withColumns(load, kept, both.source, unfilled))}>
          Set {counted(kept.length, "column")}
        </Button>
      </div>
    </Modal>
  );
}
