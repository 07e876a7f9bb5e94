import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { startMariaDb } from "@undercoat/standins/mariadb";
import { compared, type Line, q, task, type Yard } from "./yard.ts";

const columns = `id bigint PRIMARY KEY, route int NOT NULL, code varchar(12) NOT NULL, name varchar(60), amount decimal(12,2), quantity int, ratio double, day date, at datetime(6), updated timestamp(6) NOT NULL, open smallint NOT NULL, note text`;

const load: Load = {
  from: { connection: "maria", table: "bench.fact" },
  into: { table: "landing.fact", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(amount)"] },
};

/** How MariaDB compares with its own client piped into psql, and with exporting and sorting both sides. */
export async function mariaLines({ repeat, rows, reset, hand, sides }: Yard): Promise<Line[]> {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-bench-maria-"));
  chmodSync(folder, 0o755);
  const server = await startMariaDb(folder, ["--innodb-buffer-pool-size=512M", "--innodb-flush-log-at-trx-commit=0"]);
  const { port, user, password } = server;
  const client = `mariadb --no-defaults -h127.0.0.1 -P${port} -u${user} -p'${password}'`;
  const maria = (sql: string) => hand(`${client} <<'SQL'\n${sql}\nSQL`);
  const settings = { kind: "mariadb" as const, host: "127.0.0.1", port, database: "bench", user, tls: "off" as const };
  const ends = { source: { name: "maria", settings, password }, warehouse: sides.warehouse, load };
  const lines: Line[] = [];
  try {
    await maria(`CREATE DATABASE bench CHARACTER SET utf8mb4; USE bench; SET time_zone = '+00:00';
CREATE TABLE fact (${columns});
INSERT INTO fact SELECT seq, seq MOD 97, CONCAT('V', seq MOD 1000), CONCAT('Kjær ', seq), seq / 7, seq MOD 13, seq / 3.7, '2024-01-01' + INTERVAL (seq MOD 900) DAY, '2024-01-01' + INTERVAL seq * 31 SECOND + INTERVAL seq MICROSECOND, '2024-01-01' + INTERVAL seq * 29 SECOND, seq MOD 2, IF(seq MOD 5 = 0, NULL, CONCAT('note of ', seq, ' with some text')) FROM seq_1_to_${rows};
ANALYZE TABLE fact;`);
    const made = columns
      .replaceAll("datetime(6)", "timestamp")
      .replace("timestamp(6) NOT NULL", "timestamptz NOT NULL")
      .replace("double", "double precision");
    const byHand = () =>
      hand(
        `${q} "$WAREHOUSE" -c "CREATE TABLE hand (${made})"; ${client} --quick -B -N bench -e 'SELECT * FROM fact' | sed 's/\\tNULL/\\t\\\\N/g' | ${q} "$WAREHOUSE" -c "COPY hand FROM STDIN"`,
      );
    const first = await compared(repeat, reset, () => task({ ...ends, kind: "load" }), byHand);
    lines.push({
      work: `MariaDB, ${rows.toLocaleString("en")} rows × 12, first load with proof`,
      ...first,
      aim: "≤ 1.3",
      note: `${first.result.told}; against its client piped into psql's COPY`,
    });
    await hand(
      `${q} "$WAREHOUSE" -c "UPDATE landing.fact SET amount = amount + 0.01 WHERE id IN (77, ${Math.floor(rows / 2)}, ${rows - 3})"`,
    );
    const sorted = () =>
      hand(
        `(${client} --quick -B -N bench -e 'SELECT * FROM fact' | sort > ${folder}/a) & ${q} "$WAREHOUSE" -At -F $'\\t' -c "SELECT * FROM landing.fact" | sort > ${folder}/b; wait; (diff ${folder}/a ${folder}/b || true) | wc -l; rm ${folder}/a ${folder}/b`,
      );
    const found = await compared(
      repeat,
      async () => undefined,
      () => task({ ...ends, kind: "prove" }),
      sorted,
    );
    lines.push({
      work: `3 differing rows of ${rows.toLocaleString("en")} found between MariaDB and the warehouse`,
      ...found,
      aim: "≤ 1.0, < 2 % of the bytes",
      note: found.result.told,
    });
    await hand(`${q} "$WAREHOUSE" -c "DROP TABLE IF EXISTS hand"`);
    return lines;
  } finally {
    await server.stop();
    rmSync(folder, { recursive: true, force: true });
  }
}
