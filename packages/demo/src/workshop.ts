import mysql from "mysql2/promise";

/** The Workshop: the repairs of vessels and the parts they took, in a MariaDB database as its people keep it. */

export interface WorkshopServer {
  port: number;
  user: string;
  password: string;
}

export const workshopNames = { database: "workshop", reader: "reader" };

async function within<T>(
  { port, user, password }: WorkshopServer,
  work: (ask: (sql: string) => Promise<unknown>) => Promise<T>,
) {
  const connection = await mysql.createConnection({ host: "127.0.0.1", port, user, password, timezone: "Z" });
  try {
    await connection.query("SET time_zone = '+00:00', sql_mode = ''");
    return await work(async (sql) => (await connection.query(sql))[0]);
  } finally {
    await connection.end();
  }
}

const repairs = 6_000;
const parts = 24_000;

/** A number between 0 and 1 that is the same for the same row and use, in SQL. */
const chance = (row: string, use: number) => `(CONV(LEFT(MD5(CONCAT(${row}, ':', ${use})), 8), 16, 10) / 4294967296)`;
const pick = (texts: readonly string[], row: string, use: number) =>
  `ELT(1 + FLOOR(${chance(row, use)} * ${texts.length}), ${texts.map((text) => `'${text}'`).join(", ")})`;

const faults = [
  "Bow visor seal",
  "Ramp hinge",
  "Main engine injector",
  "Radar mast",
  "Galley drain",
  "Rudder stock",
  "Lifeboat davit",
  "Car deck light",
];
const notes = [
  "",
  "Waiting for a part from Bergen",
  "Done while in dock",
  "Skipper O''Hara reported it",
  "Prøvd igjen – holder",
  "再検査",
];

const schema = [
  `CREATE DATABASE ${workshopNames.database} CHARACTER SET utf8mb4`,
  `USE ${workshopNames.database}`,
  `CREATE TABLE ${workshopNames.database}.repair (
    repair_id int unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
    vessel_code varchar(10) COLLATE utf8mb4_general_ci NOT NULL,
    fault varchar(80) CHARACTER SET latin1 NOT NULL,
    status enum('reported', 'in work', 'done') NOT NULL,
    found_on date NOT NULL,
    finished_at datetime NULL,
    taken time NULL COMMENT 'time at work, of several days too',
    cost decimal(10,2) NULL,
    load_factor float NULL,
    urgent tinyint(1) NOT NULL DEFAULT 0,
    note text NULL,
    updated_at timestamp(6) NOT NULL,
    KEY (updated_at)
  ) COMMENT 'one row a repair'`,
  `CREATE TABLE ${workshopNames.database}.part (
    part_id bigint unsigned NOT NULL PRIMARY KEY,
    repair_id int unsigned NOT NULL,
    name varchar(60) NOT NULL,
    quantity smallint unsigned NOT NULL,
    price decimal(12,4) NOT NULL,
    received_on date NOT NULL,
    KEY (repair_id)
  ) COMMENT 'what repairs took'`,
];

/** Two parts whose receipt nobody dated. */
const undated = "received_on = IF(part_id IN (411, 9034), '0000-00-00', received_on)";

const rows = [
  `INSERT INTO ${workshopNames.database}.repair
   SELECT seq, CONCAT('KSF-', LPAD(1 + FLOOR(${chance("seq", 1)} * 9), 2, '0')), ${pick(faults, "seq", 2)},
     IF(seq > ${repairs - 40}, IF(seq MOD 3 = 0, 'reported', 'in work'), 'done'),
     CURRENT_DATE - INTERVAL FLOOR((${repairs} - seq) * 730 / ${repairs}) DAY,
     IF(seq > ${repairs - 40}, NULL, CURRENT_DATE - INTERVAL FLOOR((${repairs} - seq) * 730 / ${repairs}) DAY + INTERVAL FLOOR(${chance("seq", 3)} * 86400) SECOND),
     IF(seq > ${repairs - 40}, NULL, SEC_TO_TIME(900 + FLOOR(${chance("seq", 4)} * 200000))),
     IF(seq > ${repairs - 40}, NULL, ROUND(200 + ${chance("seq", 5)} * 18000, 2)),
     ROUND(${chance("seq", 6)} * 1.4, 3), seq MOD 11 = 0, NULLIF(${pick(notes, "seq", 7)}, ''),
     LEAST(CURRENT_DATE - INTERVAL FLOOR((${repairs} - seq) * 730 / ${repairs}) DAY + INTERVAL FLOOR(${chance("seq", 8)} * 86400) SECOND + INTERVAL seq MICROSECOND, UTC_TIMESTAMP(6) - INTERVAL 1 HOUR)
   FROM seq_1_to_${repairs}`,
  `INSERT INTO ${workshopNames.database}.part
   SELECT seq, 1 + FLOOR(${chance("seq", 11)} * ${repairs}), ${pick(["Seal", "Bolt M16", "Injector", "Bearing 6204", "Hydraulic hose", "Lamp 24 V"], "seq", 12)}, 1 + FLOOR(${chance("seq", 13)} * 12),
     ROUND(3 + ${chance("seq", 14)} * 940, 4), CURRENT_DATE - INTERVAL FLOOR(${chance("seq", 15)} * 730) DAY FROM seq_1_to_${parts}`,
  `UPDATE ${workshopNames.database}.part SET ${undated}`,
];

/** Makes the database with its rows, and a user who only reads it; what is there stays. */
export function makeWorkshop(server: WorkshopServer, password: string): Promise<void> {
  return within(server, async (ask) => {
    const [there] = (await ask(`SHOW DATABASES LIKE '${workshopNames.database}'`)) as unknown[];
    const user = `${workshopNames.reader}@'127.0.0.1'`;
    if (!there) for (const sql of [...schema, ...rows]) await ask(sql);
    await ask(`CREATE OR REPLACE USER ${user} IDENTIFIED BY '${password}'`);
    await ask(`GRANT SELECT ON ${workshopNames.database}.* TO ${user}`);
  });
}

/** An hour at the Workshop: repairs come in, some are finished, one that was a mistake is struck out. */
export function passWorkshopHour(server: WorkshopServer): Promise<void> {
  const table = `${workshopNames.database}.repair`;
  return within(server, async (ask) => {
    await ask(`USE ${workshopNames.database}`);
    await ask(`INSERT INTO ${table} (vessel_code, fault, status, found_on, load_factor, urgent, updated_at)
      SELECT CONCAT('KSF-', LPAD(1 + FLOOR(RAND() * 9), 2, '0')), ${pick(faults, "seq + UNIX_TIMESTAMP()", 2)}, 'reported', CURRENT_DATE, ROUND(RAND(), 3), seq MOD 2, UTC_TIMESTAMP(6) FROM seq_1_to_3`);
    await ask(
      `UPDATE ${table} SET status = 'done', finished_at = UTC_TIMESTAMP(), taken = '26:30:00', cost = ROUND(200 + RAND() * 9000, 2), updated_at = UTC_TIMESTAMP(6) WHERE status = 'in work' ORDER BY repair_id LIMIT 2`,
    );
    await ask(`DELETE FROM ${table} WHERE status = 'reported' ORDER BY repair_id LIMIT 1`);
  });
}
