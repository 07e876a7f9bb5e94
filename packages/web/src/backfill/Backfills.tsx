import { useQuery } from "@tanstack/react-query";
import type { PipelineView } from "@undercoat/core/api/api";
import type { Given } from "@undercoat/core/parameter/resolve";
import { takesIntervals } from "@undercoat/core/pipeline/pipeline";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { counted } from "../parts/format.ts";

const BackfillDialog = lazy(() => import("./BackfillDialog.tsx"));

/** A pipeline's backfills that are not over, and the way to another. */
export function Backfills({ view, given }: { view: PipelineView; given: Given | undefined }) {
  const canEdit = useCanEdit();
  const [asking, setAsking] = useState(false);
  const able = Object.entries(view.definition.loads).flatMap(([name, load]) => (takesIntervals(load) ? [name] : []));
  const { data = [] } = useQuery({ ...queries.backfills(view.name), enabled: able.length > 0 });
  const open = data.filter((row) => row.status === "open" || row.status === "paused");
  if (able.length === 0) return null;
  return (
    <>
      {open.map((row) => (
        <p key={row.id}>
          <Link to={`/backfills/${row.id}`}>Backfill {row.id}</Link>
          <span className="quiet">
            : {row.slices.filter((slice) => slice.status === "finished").length} of {counted(row.slices.length, row.by)}
            {row.status === "paused" && ", paused"}
          </span>
        </p>
      ))}
      {canEdit && (
        <button type="button" className="link" onClick={() => setAsking(true)}>
          Load earlier days
        </button>
      )}
      {asking && (
        <Suspense fallback={null}>
          <BackfillDialog
            pipeline={view.name}
            title={view.definition.title}
            loads={able}
            given={given}
            onClose={() => setAsking(false)}
          />
        </Suspense>
      )}
    </>
  );
}
