import { callsOf } from "@undercoat/core/expression/parse";
import { PlanError } from "@undercoat/core/plan/error";
import { functionFacts, operatorFacts } from "@undercoat/core/sql/session";
import { arrayText } from "./array.ts";
import type { Session } from "./session.ts";

/** Functions of PostgreSQL's own that are not volatile and yet run SQL given as text, read other sessions or change this one. */
const dangerous =
  /^(query|table|cursor|schema|database)_to_xml|^(ts_stat|ts_rewrite|set_config|current_query|lo_\w+|dblink\w*|pg_(read|ls|stat|terminate|cancel|advisory|try_advisory|notify|sleep|reload|rotate|logical|create|drop|switch|start|stop|backup|promote|export|import|logfile|file|hba|show|current_logfile|replication|wal|snapshot|log|stat_get)\w*)$/;

/**
 * Admits what a query calls: built-in functions that are stable or immutable and on no list of dangers; others only where
 * the administrator has listed them for the connection, as `schema.name`.
 * @throws PlanError with the function's name.
 */
export async function admitCalls(session: Session, query: string): Promise<void> {
  const { functions, operators } = await callsOf(query);
  const listed = new Set(session.credentials.settings.functions ?? []);
  const refuse = (name: string, why: string) => {
    throw new PlanError(
      `The query calls ${name}(), ${why}; use functions that only compute, or have an administrator list it with the connection`,
      ["from", "query"],
    );
  };
  if (functions.length) {
    const schemas = [...new Set(functions.flatMap((call) => call.schema ?? []))];
    const facts = await session.query(functionFacts, [
      arrayText(functions.map((call) => call.name)),
      arrayText(schemas),
    ]);
    for (const call of functions) {
      const found = facts.filter(
        (row) => row.name === call.name && (call.schema === null || row.schema === call.schema),
      );
      for (const { schema, volatile } of found) {
        const full = `${schema}.${call.name}`;
        if (listed.has(full)) continue;
        if (schema !== "pg_catalog")
          refuse(full, "which is not PostgreSQL's own and which no administrator has listed");
        if (volatile === "true" || dangerous.test(call.name))
          refuse(call.name, "which may change something or answer differently each time");
      }
    }
  }
  if (operators.length) {
    const [own] = (await session.query(operatorFacts, [arrayText(operators)])).filter(
      (row) => !listed.has(`${row.schema}.${row.function}`),
    );
    if (own)
      refuse(
        `${own.schema}.${own.function}`,
        `by the operator ${own.name}, which is not PostgreSQL's own and which no administrator has listed`,
      );
  }
}
