/**
 * Kestrel Sound Ferries, generated set-based and from a fixed seed: chance(n, salt) is a hash of the row's number,
 * so the same command makes the same rows. Times are laid back from the hour before `now`.
 */
const chance = `
CREATE FUNCTION demo.chance(n bigint, salt integer) RETURNS float8 LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN (hashint8extended(n * 7919 + salt, 20261) & 1048575)::float8 / 1048576;
CREATE FUNCTION demo.pick(list text[], n bigint, salt integer) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN list[1 + floor(demo.chance(n, salt) * cardinality(list))::int];
CREATE FUNCTION demo.first_name(n bigint) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN demo.pick(ARRAY['Ines','Tor','Mara','Sunniva','Wen','José','Zoë','Åse','Björn','Aoife','Renée','Milo','Priya','Kofi','Yuki','伟','Łucja','Noor','Eilidh','Søren'], n, 1);
CREATE FUNCTION demo.last_name(n bigint) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN demo.pick(ARRAY['Okafor','Lind','Teig','Halloran','Moe','Zhao','O''Brien','Ødegård','van der Berg','D''Souza','Çelik','Nakamura','王','MacLeod','Nuñez','Strand','Quist','Ferrier','Aas','Hughes-Wray'], n, 2);`;

const places = `
INSERT INTO port VALUES
 (1,'SKV','Skarvik','north'),(2,'HOL','Holmsund Quay','north'),(3,'TER','Ternholm','north'),(4,'LUN','Lundey Pier','north'),(5,'GRA','Gråness','north'),
 (6,'VES','Vesterbrygge','south'),(7,'KIL','Kilbrann','south'),(8,'ORM','Ormsay','south'),(9,'STA','Stallen','south'),(10,'FUR','Furholm','south'),(11,'MAR','Marøy','south');
INSERT INTO vessel
SELECT n, name, 1 + (n * 3) % 11, 1988 + n * 3, 40 + n * 7, 180 + n * 35, 52.5 + n * 4.3, now() - interval '400 days' + n * interval '9 days'
FROM unnest(ARRAY['Kittiwake','Sandpiper','Fulmar','Gannet','Guillemot','Razorbill','Tystie','Dunlin','Whimbrel']) WITH ORDINALITY AS v(name, n);
INSERT INTO route
SELECT n, a.name || ' – ' || b.name, a.port_id, b.port_id, a.region, 4.5 + n * 1.7
FROM (VALUES (1,1,2),(2,2,1),(3,2,3),(4,3,2),(5,4,5),(6,5,4),(7,1,5),(8,6,7),(9,7,6),(10,8,9),(11,9,8),(12,10,11),(13,11,10),(14,6,11)) AS r(n, f, t)
JOIN port a ON a.port_id = r.f JOIN port b ON b.port_id = r.t;`;

/** 14 routes × 6 departures × 762 days, 30 of them still to come. */
const sailings = `
INSERT INTO sailing
SELECT r, d, k, ((d + make_interval(hours => 5 + k::int * 3, mins => (r * 7) % 60)) AT TIME ZONE 'Europe/Oslo'), 1 + (r + k) % 9,
  CASE WHEN demo.chance(r * 100000 + (d - date '2020-01-01') * 10 + k, 3) < 0.012 THEN 'cancelled' WHEN d < current_date THEN 'sailed' ELSE 'planned' END::sailing_status,
  least((d + interval '20 hours')::timestamptz + demo.chance(r * 100000 + (d - date '2020-01-01') * 10 + k, 4) * interval '3 hours', $NOW - demo.chance(r * 1000 + k, 4) * interval '30 days')
FROM generate_series(1, 14) r, generate_series(1, 6) k, LATERAL (SELECT (current_date + g)::date AS d FROM generate_series(-731, 30) g) x;`;

const customers = `
INSERT INTO customer
SELECT n, demo.first_name(n), demo.last_name(n),
  CASE WHEN demo.chance(n, 5) < 0.06 THEN NULL ELSE 'guest' || n || '@' || demo.pick(ARRAY['kestrel.example','sound.example','port.example'], n, 6) END,
  (CASE WHEN demo.chance(n, 7) < 0.05 THEN 'kestrel' WHEN demo.chance(n, 7) < 0.2 THEN 'kittiwake' ELSE 'standard' END)::customer_tier,
  CASE WHEN demo.chance(n, 8) < 0.03 THEN demo.pick(ARRAY['Prefers the upper deck ⛴','Says "call me back"' || E'\\n' || 'after six','Allergic to nuts; carries a pen','Travels with a guide dog 🐕'], n, 9) END,
  $NOW - (1 + demo.chance(n, 10) * 730) * interval '1 day', $NOW - demo.chance(n, 11) * interval '300 days'
FROM generate_series(1, 40000) n;`;

/** Vessels move, two get another name; customers rise and move house. A ninth of it was written down long after it was true. */
const changes = `
INSERT INTO vessel_change
SELECT 'KSF-0' || v.vessel_id, v.vessel_id, CASE WHEN v.vessel_id IN (3, 7) AND c < 2 THEN (ARRAY['Petrel','Ternfjord'])[1 + (v.vessel_id = 7)::int] ELSE v.name END,
  (ARRAY['SKV','HOL','TER','LUN','GRA','VES','KIL','ORM','STA','FUR','MAR'])[1 + (v.vessel_id * 3 + c * c * 2 + c) % 11],
  '+47 555 0 ' || 100 + v.vessel_id * 11 + c / 2, make_date(v.built, 1 + v.vessel_id, 3 + v.vessel_id), t.at,
  CASE WHEN (v.vessel_id + c) % 9 = 4 THEN least(t.at + interval '170 days', $NOW) ELSE least(t.at + interval '9 minutes', $NOW) END
FROM vessel v, generate_series(0, 4) c, LATERAL (SELECT $NOW - make_interval(days => 745 - c * 165 - floor(demo.chance(v.vessel_id * 10 + c, 80) * (CASE WHEN c = 0 THEN 0 ELSE 110 END))::int, hours => c * 3) AS at) t;
INSERT INTO customer_change
SELECT n, (CASE WHEN c = 0 THEN 'standard' WHEN c = 1 AND demo.chance(n, 81) < 0.6 THEN 'kittiwake' WHEN c = 1 THEN 'standard' ELSE 'kestrel' END)::customer_tier,
  (1 + n % 90) || ' ' || demo.pick(ARRAY['Harbour Street','Mole Road','Pier Lane','Net Loft Row'], n + c, 82), demo.pick(ARRAY['Skarvik','Kilbrann','Marøy','Furholm','Ormsay'], n + CASE WHEN demo.chance(n, 83) < 0.4 THEN c ELSE 0 END, 84),
  t.at, least(t.at + CASE WHEN (n + c) % 9 = 4 THEN interval '40 days' ELSE interval '3 minutes' END, $NOW)
FROM generate_series(1, 12000) n, generate_series(0, 2) c, LATERAL (SELECT $NOW - (710 - c * 230 - demo.chance(n * 10 + c, 85) * 200) * interval '1 day' AS at) t
WHERE c = 0 OR demo.chance(n * 3 + c, 86) < 0.45;`;

/** Sail dates run with the booking's number, so that a day's bookings lie together as they would. */
const bookings = `
INSERT INTO booking
SELECT n, CASE WHEN route < 8 THEN 'north' ELSE 'south' END, route, day, 1 + floor(demo.chance(n, 14) * 6)::int, customer, demo.first_name(customer), demo.last_name(customer),
  (CASE WHEN demo.chance(n, 15) < 0.04 THEN 'cancelled' WHEN day < current_date THEN 'boarded' WHEN demo.chance(n, 15) < 0.3 THEN 'held' ELSE 'paid' END)::booking_status,
  round((22 + demo.chance(n, 16) * 240)::numeric * 2) / 2,
  CASE WHEN demo.chance(n, 17) < 0.62 THEN demo.pick(ARRAY['car','car + trailer','van','motorbike','bicycle'], n, 18) END,
  CASE WHEN demo.chance(n, 19) < 0.2 THEN jsonb_build_object('meal', demo.chance(n, 20) < 0.5, 'cabin', demo.pick(ARRAY['none','inside','sea view'], n, 21)) END,
  CASE WHEN demo.chance(n, 22) < 0.01 THEN repeat('Asked about the timetable again; ', 12 + (n % 9)::int) WHEN demo.chance(n, 22) < 0.02 THEN '' END,
  CASE WHEN day < current_date THEN day::timestamptz + interval '9 hours' - demo.chance(n, 23) * interval '6 hours' ELSE $NOW - demo.chance(n, 23) * interval '30 days' END - CASE WHEN n % 5003 = 0 THEN interval '3 days' ELSE interval '0' END
FROM (SELECT n, (current_date - 730 + floor((n - 1) * 760.0 / 200000)::int)::date AS day, 1 + floor(demo.chance(n, 12) * 14)::int AS route, 1 + floor(demo.chance(n, 13) * 40000)::int AS customer FROM generate_series(1, 200000) n) b;`;

const others = `
INSERT INTO passenger
SELECT row_number() OVER (ORDER BY b.booking_id, p), b.booking_id, demo.first_name(b.booking_id * 7 + p) || ' ' || demo.last_name(b.booking_id + p),
  (ARRAY['adult','adult','child','senior','infant'])[1 + floor(demo.chance(b.booking_id * 7 + p, 24) * 5)::int],
  CASE WHEN demo.chance(b.booking_id * 7 + p, 25) < 0.9 THEN false WHEN demo.chance(b.booking_id * 7 + p, 25) < 0.95 THEN true END, b.updated_at
FROM booking b, LATERAL generate_series(1, 1 + floor(demo.chance(b.booking_id, 26) * 3.8)::int) p;
INSERT INTO payment
SELECT row_number() OVER (ORDER BY b.booking_id, p), b.booking_id, (ARRAY['card','card','card','agent','cash','voucher'])[1 + floor(demo.chance(b.booking_id * 3 + p, 27) * 6)::int]::payment_method,
  CASE WHEN demo.chance(b.booking_id, 28) < 0.12 THEN b.fare / 2 ELSE b.fare END, b.updated_at - demo.chance(b.booking_id, 29) * interval '2 hours', b.updated_at
FROM booking b, LATERAL generate_series(1, CASE WHEN demo.chance(b.booking_id, 28) < 0.12 THEN 2 ELSE 1 END) p WHERE b.status <> 'held';
INSERT INTO gate_scan
SELECT row_number() OVER (ORDER BY b.booking_id), b.booking_id, r.from_port, 1 + floor(demo.chance(b.booking_id, 30) * 4)::int,
  s.departs_at - interval '20 minutes' - demo.chance(b.booking_id, 31) * interval '40 minutes'
FROM booking b JOIN route r USING (route_id) JOIN sailing s USING (route_id, sail_date, departure_no) WHERE b.status = 'boarded';
INSERT INTO demo.clock VALUES (0, $NOW);`;

/** A sheet's lines as agents write them, for the numbers of `lines`: dates and fares in their own style, spaces and capitals as they come, and every so often a mistake. */
export const sales = (lines: string, receivedAt: string) =>
  `
INSERT INTO agency_sale
SELECT n, CASE WHEN n % 331 = 7 THEN '31.02.2026' ELSE to_char(($AT)::date - 1, CASE WHEN n % 3 = 0 THEN 'FMDD.FMMM.YYYY' ELSE 'DD.MM.YYYY' END) END,
  CASE n % 4 WHEN 0 THEN '  sound  travel ' WHEN 1 THEN 'KESTREL HOLIDAYS' WHEN 2 THEN 'quay & sons' ELSE 'Marøy Turistkontor' END,
  CASE WHEN n % 409 = 11 THEN 'XXX' ELSE lower(demo.pick(ARRAY['SKV','HOL','TER','LUN','GRA','VES','KIL','ORM','STA','FUR','MAR'], n, 70)) END,
  CASE WHEN n % 173 = 5 THEN demo.pick(ARRAY['n/a','see note','–'], n, 71) WHEN n % 499 = 13 THEN '-12,50' ELSE translate(to_char(round((22 + demo.chance(n, 72) * 1400)::numeric, 2), 'FM9,990.00'), ',.', '.,') END,
  CASE WHEN n % 19 = 0 THEN NULL ELSE 'Guest' || n % 900 || '@Kestrel.example' END, $AT
FROM ${lines} n`.replaceAll("$AT", receivedAt);

/** Every statement of the seed in order, with what it makes; `now` is the source's hour as an SQL expression. */
export const seed: { makes: string; sql: string }[] = [
  { makes: "the seed", sql: chance },
  { makes: "ports, vessels and routes", sql: places },
  { makes: "64,000 sailings", sql: sailings },
  { makes: "40,000 customers", sql: customers },
  { makes: "what became of vessels and customers", sql: changes },
  { makes: "200,000 bookings", sql: bookings },
  { makes: "passengers, payments and gate scans", sql: others },
  {
    makes: "6,000 sales by agents",
    sql: sales("generate_series(1, 6000)", "$NOW - (6000 - n) * interval '21 minutes'"),
  },
].map(({ makes, sql }) => ({ makes, sql: sql.replaceAll("$NOW", "(now() - interval '1 hour')") }));
