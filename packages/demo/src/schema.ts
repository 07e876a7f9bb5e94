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
  route_id integer NOT NULL REFERENCES route, sail_date date NOT NULL, departure_no smallint NOT NULL,
  departs_at timestamptz NOT NULL, vessel_id integer NOT NULL REFERENCES vessel, status sailing_status NOT NULL, updated_at timestamptz NOT NULL,
  PRIMARY KEY (route_id, sail_date, departure_no));
CREATE TABLE customer (
  customer_id integer PRIMARY KEY, first_name text NOT NULL, last_name text NOT NULL, email text, tier customer_tier NOT NULL,
  note text, created_at timestamptz NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE booking (
  booking_id bigint PRIMARY KEY, region text NOT NULL, route_id integer NOT NULL, sail_date date NOT NULL, departure_no smallint NOT NULL,
  customer_id integer NOT NULL, first_name text NOT NULL, last_name text NOT NULL, status booking_status NOT NULL, fare numeric(12,2) NOT NULL,
  vehicle varchar(20), extras jsonb, note text, updated_at timestamptz NOT NULL);
CREATE TABLE passenger (
  passenger_id bigint PRIMARY KEY, booking_id bigint NOT NULL, name text NOT NULL, age_group text NOT NULL, assistance boolean,
  updated_at timestamptz NOT NULL);
CREATE TABLE payment (
  payment_id bigint PRIMARY KEY, booking_id bigint NOT NULL, method payment_method NOT NULL, amount numeric(12,2) NOT NULL,
  paid_at timestamptz NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE gate_scan (
  scan_id bigint PRIMARY KEY, booking_id bigint NOT NULL, port_id smallint NOT NULL, gate smallint NOT NULL, scanned_at timestamptz NOT NULL);

CREATE SCHEMA demo;
CREATE TABLE demo.clock (hour integer NOT NULL, at timestamptz NOT NULL);`;

/** After the rows, where building an index once is cheaper. */
export const indexes = `
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
