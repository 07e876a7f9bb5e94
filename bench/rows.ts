/** The benchmark's table: twelve columns of the usual types, some 134 bytes a row as text. */
export const columns =
  "id bigint, customer bigint, region text, status text, amount numeric(12,2), discount numeric(5,2), quantity integer, day date, note text, flag boolean, score double precision, updated_at timestamptz";

export const dataset = `DROP TABLE IF EXISTS fact; CREATE TABLE fact (${columns.replace("id bigint", "id bigint PRIMARY KEY").replace("updated_at timestamptz", "updated_at timestamptz NOT NULL")})`;

/** `count` generated rows, an index on the watermark, statistics. */
export function makeRows(count: number): string {
  return `INSERT INTO fact SELECT n, n % 40000, (ARRAY['north','south','east','west'])[1 + n % 4], (ARRAY['held','paid','boarded','cancelled'])[1 + n % 4], (n % 100000) / 100.0, n % 30, n % 12,
  date '2024-01-01' + (n % 700)::int, 'note number ' || n || ' of a usual length', n % 3 = 0, n / 7.0, timestamptz '2026-01-01 00:00+00' + n * interval '7 milliseconds' FROM generate_series(1, ${count}) n;
CREATE INDEX ON fact (updated_at); VACUUM ANALYZE fact; CHECKPOINT`;
}
