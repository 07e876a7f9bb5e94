import { sales } from "./seed.ts";

/**
 * One more hour of business: everything that happens in it is dated between the last hour's end and now. New bookings
 * with their passengers and payments, held ones paid, paid ones boarded, some cancelled, passengers struck off
 * older bookings, a vessel that moves, customers who change tier.
 */
export const hour = `
DO $hour$
DECLARE
  h integer; since timestamptz; span interval; first_booking bigint; first_passenger bigint; first_payment bigint; first_scan bigint; count_new integer;
BEGIN
  SELECT max(hour) + 1, max(at) INTO h, since FROM demo.clock;
  span := clock_timestamp() - since;
  count_new := 48 + floor(demo.chance(h, 40) * 30);
  SELECT max(booking_id) INTO first_booking FROM booking;
  SELECT max(passenger_id) INTO first_passenger FROM passenger;
  SELECT max(payment_id) INTO first_payment FROM payment;
  SELECT max(scan_id) INTO first_scan FROM gate_scan;

  INSERT INTO booking
  SELECT first_booking + n, CASE WHEN route < 8 THEN 'north' ELSE 'south' END, route, current_date + floor(demo.chance(h * 1000 + n, 41) * 14)::int, 1 + floor(demo.chance(h * 1000 + n, 42) * 6)::int,
    customer, demo.first_name(customer), demo.last_name(customer), (CASE WHEN demo.chance(h * 1000 + n, 43) < 0.35 THEN 'held' ELSE 'paid' END)::booking_status,
    round((22 + demo.chance(h * 1000 + n, 44) * 240)::numeric * 2) / 2, demo.pick(ARRAY['car','van','bicycle',NULL], h * 1000 + n, 45), NULL, CASE WHEN n % 17 = 0 THEN 'Booked by phone ☎' END,
    since + demo.chance(h * 1000 + n, 46) * span
  FROM (SELECT n, 1 + floor(demo.chance(h * 1000 + n, 47) * 14)::int AS route, 1 + floor(demo.chance(h * 1000 + n, 48) * 40000)::int AS customer FROM generate_series(1, count_new) n) b;

  INSERT INTO passenger
  SELECT first_passenger + row_number() OVER (ORDER BY b.booking_id, p), b.booking_id, demo.first_name(b.booking_id * 7 + p) || ' ' || demo.last_name(b.booking_id + p), 'adult', false, b.updated_at
  FROM booking b, LATERAL generate_series(1, 1 + floor(demo.chance(b.booking_id, 26) * 3)::int) p WHERE b.booking_id > first_booking;

  UPDATE booking SET status = 'paid', updated_at = since + demo.chance(booking_id, 50 + h) * span
  WHERE booking_id IN (SELECT booking_id FROM booking WHERE status = 'held' AND booking_id <= first_booking ORDER BY demo.chance(booking_id, 60 + h) LIMIT 35);
  UPDATE booking SET status = 'boarded', updated_at = since + demo.chance(booking_id, 51 + h) * span
  WHERE booking_id IN (SELECT booking_id FROM booking WHERE status = 'paid' AND sail_date = current_date AND booking_id <= first_booking ORDER BY departure_no, booking_id LIMIT 40);
  UPDATE booking SET status = 'cancelled', note = 'Cancelled by the customer', updated_at = since + demo.chance(booking_id, 52 + h) * span
  WHERE booking_id IN (SELECT booking_id FROM booking WHERE status IN ('held', 'paid') AND sail_date > current_date AND booking_id <= first_booking ORDER BY demo.chance(booking_id, 61 + h) LIMIT 6);

  INSERT INTO payment
  SELECT first_payment + row_number() OVER (ORDER BY booking_id), booking_id, 'card', fare, updated_at, updated_at
  FROM booking WHERE status = 'paid' AND updated_at > since;
  INSERT INTO gate_scan
  SELECT first_scan + row_number() OVER (ORDER BY booking_id), booking_id, (SELECT from_port FROM route r WHERE r.route_id = b.route_id), 1 + booking_id % 4, updated_at
  FROM booking b WHERE status = 'boarded' AND updated_at > since;

  ${sales("generate_series((SELECT max(sale_id) FROM agency_sale) + 1, (SELECT max(sale_id) FROM agency_sale) + 24)", "since + demo.chance(n, 73) * span").trim()};

  DELETE FROM passenger WHERE passenger_id IN (SELECT passenger_id FROM passenger p JOIN booking b USING (booking_id) WHERE b.status = 'cancelled' ORDER BY demo.chance(passenger_id, 62 + h) LIMIT 4);
  UPDATE sailing SET status = 'sailed', updated_at = clock_timestamp() WHERE status = 'planned' AND departs_at < clock_timestamp();
  UPDATE vessel SET home_port = 1 + (home_port + h) % 11, updated_at = clock_timestamp() WHERE vessel_id = 1 + h % 9;
  UPDATE customer SET tier = CASE tier WHEN 'standard' THEN 'kittiwake' ELSE 'kestrel' END::customer_tier, updated_at = since + demo.chance(customer_id, 53) * span
  WHERE customer_id IN (SELECT customer_id FROM customer WHERE tier <> 'kestrel' ORDER BY demo.chance(customer_id, 63 + h) LIMIT 3);
  INSERT INTO vessel_change
  SELECT vessel_code, vessel_id, name, (SELECT code FROM port WHERE port_id = 1 + (l.vessel_id * 5 + h * 3) % 11), '+47 555 0 ' || 300 + h, launched_on, since + span / 2, clock_timestamp()
  FROM (SELECT DISTINCT ON (vessel_code) * FROM vessel_change ORDER BY vessel_code, true_from DESC) l WHERE vessel_id IN (1 + h % 9, 1 + (h + 6) % 9);
  -- One that was forgotten, true since forty days.
  INSERT INTO vessel_change
  SELECT vessel_code, vessel_id, name, (SELECT code FROM port WHERE port_id = 1 + (l.vessel_id * 7 + h) % 11), captain_phone, launched_on, since - interval '40 days' - h * interval '1 hour', clock_timestamp()
  FROM (SELECT DISTINCT ON (vessel_code) * FROM vessel_change WHERE true_from < since - interval '41 days' ORDER BY vessel_code, true_from DESC) l WHERE vessel_id = 1 + (h + 3) % 9;
  INSERT INTO customer_change
  SELECT customer_id, CASE tier WHEN 'standard' THEN 'kittiwake' ELSE 'kestrel' END::customer_tier, street, town, since + demo.chance(customer_id, 87) * span, clock_timestamp()
  FROM (SELECT DISTINCT ON (customer_id) * FROM customer_change ORDER BY customer_id, true_from DESC) l WHERE tier <> 'kestrel' ORDER BY demo.chance(customer_id, 88 + h) LIMIT 5;
  INSERT INTO demo.clock VALUES (h, clock_timestamp());
END $hour$`;

/**
 * The planted trouble: on one day, two payments get another amount and one is added, all dated before what has been
 * loaded, as a transaction that was committed late would leave them.
 */
export const trouble = `
WITH day AS (SELECT payment_id, row_number() OVER (ORDER BY payment_id) AS n FROM payment
  WHERE (paid_at AT TIME ZONE 'Europe/Oslo')::date = current_date - 3 AND amount > 60), chosen AS (SELECT * FROM day WHERE n IN (40, 43))
UPDATE payment p SET amount = amount * 2, updated_at = updated_at + interval '85 seconds' FROM chosen c WHERE p.payment_id = c.payment_id;
INSERT INTO payment
SELECT (SELECT max(payment_id) FROM payment) + 1, booking_id, 'card', 148.00, paid_at + interval '51 seconds', paid_at + interval '51 seconds'
FROM payment WHERE (paid_at AT TIME ZONE 'Europe/Oslo')::date = current_date - 3 ORDER BY payment_id LIMIT 1`;
