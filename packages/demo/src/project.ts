/** The demo's pipelines, as their project file says them. Its connections are made by the demo itself. */
export const demoProject = `undercoat: 1
pipelines:
  fleet-register:
    title: Fleet register
    warehouse: warehouse
    loads:
      vessel:
        from: { connection: bookings, table: public.vessel }
        into: { table: fleet.vessel, mode: upsert, key: [vessel_id] }
        proof: { figures: [rows, sum(cars), max(updated_at)] }
      route:
        from: { connection: bookings, table: public.route }
        into: { table: fleet.route, mode: replace }
        proof: { figures: [rows, sum(nautical_miles)] }
      port:
        from: { connection: bookings, table: public.port }
        into: { table: fleet.port, mode: replace }
        proof: { figures: [rows] }
    schedule: { cron: 0 2 * * *, zone: Europe/Oslo }
  customers:
    title: Customers and passengers
    warehouse: warehouse
    loads:
      customer:
        from: { connection: bookings, table: public.customer }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: agency.customer, mode: upsert, key: [customer_id] }
        proof: { by: { column: created_at, slice: day, zone: Europe/Oslo }, figures: [rows, max(updated_at)] }
      passenger:
        from: { connection: bookings, table: public.passenger }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: agency.passenger, mode: upsert, key: [passenger_id] }
        proof: { by: { column: updated_at, slice: day, zone: Europe/Oslo }, figures: [rows] }
    schedule: { cron: 30 2 * * *, zone: Europe/Oslo }
  payments:
    title: Payments
    warehouse: warehouse
    loads:
      payment:
        from: { connection: bookings, table: public.payment }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: harbour.payment, mode: upsert, key: [payment_id] }
        proof: { by: { column: paid_at, slice: day, zone: Europe/Oslo }, figures: [rows, sum(amount), max(updated_at)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  harbour-day:
    title: Harbour day
    warehouse: warehouse
    loads:
      booking:
        from: { connection: bookings, table: public.booking }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: harbour.booking, mode: upsert, key: [booking_id] }
        proof: { by: { column: sail_date, slice: day }, figures: [rows, sum(fare), max(updated_at)] }
      sailing:
        from: { connection: bookings, table: public.sailing }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: harbour.sailing, mode: upsert, key: [route_id, sail_date, departure_no] }
        proof: { by: { column: sail_date, slice: day }, figures: [rows, max(updated_at)] }
      gate_scan:
        from: { connection: bookings, table: public.gate_scan }
        watermark: { column: scanned_at, lookBack: PT10M }
        into: { table: harbour.gate_scan, mode: append, key: [scan_id] }
        proof: { by: { column: scanned_at, slice: day, zone: Europe/Oslo }, figures: [rows, max(scanned_at)] }
    schedule: { every: PT15M, zone: Europe/Oslo }
`;
