/**
 * Which rejected rows their source has been told of. A row is known by what it holds and why it was turned away, so that the
 * same one, rejected again by a later run, is told once.
 */

/** A step of the house's schema. */
export const createTold = `CREATE TABLE undercoat.told (
  target text NOT NULL, content bigint NOT NULL, reason text NOT NULL, pipeline text NOT NULL, load text NOT NULL, run uuid NOT NULL,
  state text NOT NULL, tries integer NOT NULL DEFAULT 1, message text, at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (target, content, reason))`;

/** So often a row that is refused is sent. */
const mostTries = 5;

const untold = `FROM undercoat.rejected r LEFT JOIN undercoat.told t ON t.target = r.target AND t.content = r.content AND t.reason = r.reason
WHERE r.target = $1 AND r.pipeline = $2 AND r.load = $3 AND r.left_run IS NULL AND r.content IS NOT NULL AND (t.state IS NULL OR t.state = 'refused' AND t.tries < ${mostTries} AND t.run <> $4::uuid)`;

/** Open rejected rows of a load that are yet to be told, each once, the oldest first. Parameters: target, pipeline, load, run, how many. */
export const untoldRows = `SELECT * FROM (SELECT DISTINCT ON (r.content, r.reason) r.id::text, r.content::text, r.reason, r.message, r.original::text ${untold} ORDER BY r.content, r.reason, r.id) o ORDER BY o.id::bigint LIMIT $5::int`;

/** How many there are. Parameters: target, pipeline, load, run. */
export const countUntold = `SELECT count(DISTINCT (r.content, r.reason))::text AS rows ${untold}`;

/**
 * Takes a row for this run to tell, before it is sent, so that nobody sends it twice: gives a row where it was free.
 * Parameters: target, content, reason, pipeline, load, run.
 */
export const claimTold = `INSERT INTO undercoat.told AS t (target, content, reason, pipeline, load, run, state) VALUES ($1, $2::bigint, $3, $4, $5, $6::uuid, 'claimed')
ON CONFLICT (target, content, reason) DO UPDATE SET state = 'claimed', tries = t.tries + 1, run = excluded.run, at = now() WHERE t.state = 'refused' RETURNING tries::text`;

/** What became of one. Parameters: target, content, reason, state, message. */
export const keepTold =
  "UPDATE undercoat.told SET state = $4, message = $5, at = now() WHERE target = $1 AND content = $2::bigint AND reason = $3";

/** Of a row of the list whether its source was told, as JSON. @param why what is shown of the answer of one that was not, over `t` */
export const toldOf = (why: string): string =>
  `SELECT json_build_object('state', t.state, 'at', to_char(t.at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'why', ${why}) FROM undercoat.told t WHERE t.target = rejected.target AND t.content = rejected.content AND t.reason = rejected.reason AND t.load = rejected.load AND t.pipeline = rejected.pipeline`;
