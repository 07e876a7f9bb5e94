/** The bookings application's tables. */
export const schema = `
CREATE TYPE sailing_status AS ENUM ('planned', 'sailed', 'cancelled');
CREATE TYPE booking_status AS ENUM ('held', 'paid', 'boarded', 'cancelled');
CREATE TYPE customer_tier AS ENUM ('standard', 'kittiwake', 'kestrel');
CREATE TYPE payment_method AS ENUM ('card', 'agent', 'cash', 'voucher');

CREATE TABLE port (
  port_id smallint PRIMARY KEY, code text NOT NULL UNIQUE, name text NOT NULL, region text NOT NULL);
CREATE TABLE vessel (
  vessel_id integer PRIMARY KEY, name text NOT NULL, home_port smallint NOT NULL REFERENCES port, built smallint NOT NULL,
  cars smallint NOT NULL, passengers smallint NOT NULL, length_m numeric(5,1) NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE route (
  route_id integer PRIMARY KEY, name text NOT NULL, from_port smallint NOT NULL REFERENCES port, to_port smallint NOT NULL REFERENCES port,
  region text NOT NULL, nautical_miles numeric(5,1) NOT NULL);
CREATE TABLE sailing (
  route_id integer NOT NULL, sail_date date NOT NULL, departure_no smallint NOT NULL,
  departs_at timestamptz NOT NULL, vessel_id integer NOT NULL, status sailing_status NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE customer (
  customer_id integer PRIMARY KEY, first_name text NOT NULL, last_name text NOT NULL, email text, tier customer_tier NOT NULL,
  note text, created_at timestamptz NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE booking (
  booking_id bigint NOT NULL, region text NOT NULL, route_id integer NOT NULL, sail_date date NOT NULL, departure_no smallint NOT NULL,
  customer_id integer NOT NULL, first_name text NOT NULL, last_name text NOT NULL, status booking_status NOT NULL, fare numeric(12,2) NOT NULL,
  vehicle varchar(20), extras jsonb, note text, updated_at timestamptz NOT NULL);
CREATE TABLE passenger (
  passenger_id bigint NOT NULL, booking_id bigint NOT NULL, name text NOT NULL, age_group text NOT NULL, assistance boolean,
  updated_at timestamptz NOT NULL);
CREATE TABLE payment (
  payment_id bigint NOT NULL, booking_id bigint NOT NULL, method payment_method NOT NULL, amount numeric(12,2) NOT NULL,
  paid_at timestamptz NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE gate_scan (
  scan_id bigint NOT NULL, booking_id bigint NOT NULL, port_id smallint NOT NULL, gate smallint NOT NULL, scanned_at timestamptz NOT NULL);
-- What ticket agents send in, as they write it: every value text, some of it wrong.
CREATE TABLE agency_sale (
  sale_id integer NOT NULL, sold_on text, agent text, port_code text, fare text, buyer_email text, received_at timestamptz NOT NULL);
-- What is true of a vessel or a customer from when on, in the order in which it was written down: not always that of time.
CREATE TABLE vessel_change (
  vessel_code text NOT NULL, vessel_id integer NOT NULL, name text NOT NULL, home_port text NOT NULL, captain_phone text, launched_on date NOT NULL,
  true_from timestamptz NOT NULL, written_at timestamptz NOT NULL);
CREATE TABLE customer_change (
  customer_id integer NOT NULL, tier customer_tier NOT NULL, street text, town text NOT NULL, true_from timestamptz NOT NULL, written_at timestamptz NOT NULL);

CREATE SCHEMA demo;
CREATE TABLE demo.clock (hour integer NOT NULL, at timestamptz NOT NULL);`;

/** Keys and indexes of the large tables: after the rows, where building one at once is cheaper. */
export const indexes = `
ALTER TABLE sailing ADD PRIMARY KEY (route_id, sail_date, departure_no), ADD FOREIGN KEY (route_id) REFERENCES route, ADD FOREIGN KEY (vessel_id) REFERENCES vessel;
ALTER TABLE booking ADD PRIMARY KEY (booking_id);
ALTER TABLE passenger ADD PRIMARY KEY (passenger_id);
ALTER TABLE payment ADD PRIMARY KEY (payment_id);
ALTER TABLE gate_scan ADD PRIMARY KEY (scan_id);
ALTER TABLE agency_sale ADD PRIMARY KEY (sale_id);
ALTER TABLE vessel_change ADD PRIMARY KEY (vessel_code, true_from);
ALTER TABLE customer_change ADD PRIMARY KEY (customer_id, true_from);
CREATE INDEX ON vessel_change (written_at);
CREATE INDEX ON customer_change (written_at);
CREATE INDEX ON agency_sale (received_at);
CREATE INDEX ON sailing (updated_at);
CREATE INDEX ON customer (updated_at);
CREATE INDEX ON booking (updated_at);
CREATE INDEX ON booking (sail_date);
CREATE INDEX ON passenger (updated_at);
CREATE INDEX ON passenger (booking_id);
CREATE INDEX ON payment (updated_at);
CREATE INDEX ON payment (paid_at);
CREATE INDEX ON gate_scan (scanned_at);
ANALYZE`;
