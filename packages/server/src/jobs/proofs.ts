import type { RowDifferences } from "@undercoat/core/proof/difference";
import type { LoadProof } from "@undercoat/core/run/run";
import type { Transaction } from "sequelize";
import { ProofRow, type RunLoadRow, type RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { stand } from "./standing.ts";

/**
 * Keeps a proof with its queries and values, and moves the ledger's marks in the same transaction, so that a mark always
 * has the proof it stands for. Slices of a whole proof that no side has any more lose their mark.
 */
export async function keepProof(
  store: Store,
  run: RunRow,
  load: RunLoadRow,
  { proof, rows }: { proof: LoadProof; rows: RowDifferences | null },
  transaction: Transaction,
): Promise<ProofRow> {
  const kept = await ProofRow.create(
    {
      runId: run.id,
      pipeline: run.pipeline,
      load: load.load,
      line: load.line,
      target: load.target,
      at: new Date(),
      verdict: proof.verdict,
      depth: proof.depth,
      how: proof.how,
      cells: proof.cells,
      history: proof.history ?? null,
      within: proof.within ?? null,
      counted: proof.counted ?? null,
      whole: proof.whole,
      sliceCount: proof.slices.length,
      agreeing: proof.slices.filter((slice) => slice.verdict === "proved").length,
      figures: proof.figures,
      // A load's own proof keeps its disagreements; one that was asked for keeps every slice as evidence.
      slices: run.kind === "prove" ? proof.slices : proof.slices.filter((slice) => slice.verdict !== "proved"),
      rows,
      without: proof.without ?? null,
      trouble: proof.trouble ?? null,
      sourceSql: proof.sourceSql,
      warehouseSql: proof.warehouseSql,
    },
    { transaction },
  );
  await stand(
    {
      pipeline: run.pipeline,
      load: load.load,
      line: load.line,
      proofId: kept.id,
      proofRunId: run.id,
      ...(proof.whole ? { wholeId: kept.id, wholeRunId: run.id } : {}),
    },
    transaction,
  );
  const changes = run.kind !== "prove";
  const marks = JSON.stringify(
    proof.slices.map((slice) => ({
      slice: slice.slice ?? "",
      verdict: slice.verdict,
      depth: slice.depth,
      figures: slice.figures,
      changed: changes && (proof.touched?.includes(slice.slice) ?? true),
    })),
  );
  const replacements = { pipeline: run.pipeline, load: load.load, line: load.line, proof: kept.id, marks };
  await store.sequelize.query(
    // What was compared cell by cell stays so until a run changes the slice; a disagreement that cells showed is not
    // undone by figures that agree.
    `INSERT INTO slices AS s (pipeline, load, line, slice, verdict, figures, depth, cells_at, proof_id, proved_at)
       SELECT :pipeline, :load, :line, m.slice, CASE WHEN m.depth = 'figures' AND NOT m.changed AND h.depth = 'cells' AND h.verdict = 'disagrees' THEN h.verdict ELSE m.verdict END, m.figures,
         CASE WHEN m.depth = 'cells' THEN 'cells' WHEN m.changed THEN 'figures' ELSE coalesce(h.depth, 'figures') END,
         CASE WHEN m.depth = 'cells' THEN now() ELSE h.cells_at END, :proof, now()
       FROM json_to_recordset(:marks) AS m(slice text, verdict text, depth text, figures json, changed boolean)
       LEFT JOIN slices h ON h.pipeline = :pipeline AND h.load = :load AND h.line = :line AND h.slice = m.slice
       ON CONFLICT (pipeline, load, line, slice) DO UPDATE SET verdict = excluded.verdict, figures = excluded.figures, depth = excluded.depth, cells_at = excluded.cells_at, proof_id = excluded.proof_id, proved_at = excluded.proved_at`,
    { replacements, transaction },
  );
  // A slice that was changed, and of which nothing but the changed rows was compared, is no longer known cell by cell.
  const changed = changes ? (proof.touched ?? []).map((slice) => slice ?? "") : [];
  if (changed.length)
    await store.sequelize.query(
      "UPDATE slices SET depth = 'figures' WHERE pipeline = :pipeline AND load = :load AND line = :line AND slice IN (:changed) AND proof_id <> :proof",
      { replacements: { ...replacements, changed }, transaction },
    );
  if (proof.whole)
    await store.sequelize.query(
      "DELETE FROM slices WHERE pipeline = :pipeline AND load = :load AND line = :line AND proof_id <> :proof",
      { replacements, transaction },
    );
  return kept;
}
