import { identifiers, qualified } from "../identifier.ts";
import { countTarget, ownRows, written } from "../target.ts";
import type { WriteMode } from "./mode.ts";

/** The source's rows take the place of all earlier ones. The table itself stays, with its grants, indexes and views. */
export const replace: WriteMode = {
  known: () => null,
  steps(plan, rows) {
    const own = ownRows(plan);
    const names = identifiers(written(plan).map((column) => column.name));
    return [
      {
        message: "earlier rows go",
        sql: `DELETE FROM ${qualified(plan.write.target)} t${own.length ? ` WHERE ${own.join(" AND ")}` : ""}`,
        counts: "deleted",
      },
      {
        message: "rows take their place",
        sql: `INSERT INTO ${qualified(plan.write.target)} (${names}) SELECT ${names} FROM ${qualified(rows)}`,
        counts: "new",
      },
    ];
  },
  weigh: (plan, _, lacking) =>
    `SELECT '0' AS known, '0' AS changed, n.rows AS deleted FROM (${countTarget({ ...plan, write: { ...plan.write, deletions: null } }, lacking)}) n`,
  tally: (accepted, _, counted) =>
    (counted.new ?? accepted) === accepted ? { new: accepted, changed: 0n, same: 0n, deleted: counted.deleted } : null,
};
