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
        into: { table: agency.passenger, mode: upsert, key: [passenger_id], deleted: mark }
        proof: { by: { column: updated_at, slice: day, zone: Europe/Oslo }, figures: [rows] }
    schedule: { cron: 30 2 * * *, zone: Europe/Oslo }
  agents:
    title: Agents' sales
    warehouse: warehouse
    loads:
      agency_sale:
        from: { connection: bookings, table: public.agency_sale }
        watermark: { column: received_at, lookBack: PT10M }
        columns:
          sale_id: sale_id
          sold_on:
            as: regexp_replace(sold_on, '^([0-9]{1,2})[.]([0-9]{1,2})[.]([0-9]{4})$', '\\3-\\2-\\1')
            type: date
          agent: initcap(btrim(regexp_replace(agent, '\\s+', ' ', 'g')))
          port: upper(port_code)
          fare:
            as: replace(replace(btrim(fare), '.', ''), ',', '.')
            type: numeric(10,2)
          buyer: encode(sha256(convert_to(lower(buyer_email), 'UTF8')), 'hex')
          received_at: received_at
        rules:
          fare is not negative: fare >= 0
          port is one of ours: port IN (SELECT code FROM fleet.port)
          buyer is known: { check: buyer IS NOT NULL, breach: count }
        rejects: { limit: "5%" }
        into: { table: agency.sale, mode: upsert, key: [sale_id] }
        proof: { by: { column: sold_on, slice: day }, figures: [rows, sum(fare), max(received_at)] }
      sale_by_port:
        from:
          connection: warehouse
          query: SELECT p.region, s.port, p.name, count(*) AS sales, sum(s.fare) AS fare FROM agency.sale s JOIN fleet.port p ON p.code = s.port GROUP BY p.region, s.port, p.name
        into: { table: agency.sale_by_port, mode: replace }
        proof: { figures: [rows, sum(sales), sum(fare)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  payments:
    title: Payments
    owner: Finance
    labels: [money]
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
    owner: Harbour office
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
  histories:
    title: Fleet and customers through time
    warehouse: warehouse
    loads:
      vessel_history:
        from: { connection: bookings, table: public.vessel_change }
        watermark: { column: written_at, lookBack: PT10M }
        columns: { vessel_code: vessel_code, vessel_id: vessel_id, name: name, home_port: home_port, captain_phone: captain_phone, launched_on: launched_on, true_from: true_from }
        into:
          table: fleet.vessel_history
          mode: history
          key: [vessel_code]
          history:
            columns: { home_port: version, captain_phone: overwrite, launched_on: keep, name: { previous: former_name } }
            since: true_from
            change: change_kind
            surrogate: { column: vessel_sk, start: 1000, step: 1 }
        proof: { figures: [rows, max(true_from)] }
      customer_history:
        from: { connection: bookings, table: public.customer_change }
        watermark: { column: written_at, lookBack: PT10M }
        columns: { customer_id: customer_id, tier: tier, street: street, town: town, true_from: true_from }
        into:
          table: agency.customer_history
          mode: history
          key: [customer_id]
          history:
            columns: { tier: version, town: version, street: overwrite }
            overwrite: current
            since: true_from
            surrogate: { column: customer_sk }
        proof: { figures: [rows, max(true_from)] }
      scan_of_vessel:
        from:
          connection: warehouse
          query: SELECT g.scan_id, g.scanned_at, 'KSF-0' || s.vessel_id AS vessel_code, v.vessel_sk, v.home_port FROM harbour.gate_scan g JOIN harbour.booking b ON b.booking_id = g.booking_id JOIN harbour.sailing s ON s.route_id = b.route_id AND s.sail_date = b.sail_date AND s.departure_no = b.departure_no LEFT JOIN fleet.vessel_history v ON v.vessel_id = s.vessel_id AND v.valid_from <= g.scanned_at AND (v.valid_to IS NULL OR g.scanned_at < v.valid_to)
        into: { table: harbour.scan_of_vessel, mode: replace }
        proof: { by: { column: scanned_at, slice: day, zone: Europe/Oslo }, within: { dimension: fleet.vessel_history, key: vessel_code, at: scanned_at }, figures: [rows] }
      sailing_by_home_port:
        from:
          connection: warehouse
          query: SELECT v.home_port, date_trunc('month', s.sail_date::timestamp)::date AS month, count(*) AS sailings FROM harbour.sailing s JOIN fleet.vessel_history v ON v.vessel_id = s.vessel_id AND v.valid_from <= s.departs_at AND (v.valid_to IS NULL OR s.departs_at < v.valid_to) GROUP BY 1, 2
        into: { table: harbour.sailing_by_home_port, mode: replace }
        proof: { by: { column: month, slice: day }, figures: [rows, sum(sailings)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  fares:
    title: Fare sheets
    owner: Fare office
    warehouse: warehouse
    loads:
      fare:
        from: { connection: fares, files: "2026/*.csv", origin: sheet, csv: { encoding: windows-1252 } }
        columns: { fare_code: fare_code, sheet: sheet, zone: zone, category: category, season: season, price: { as: price, type: "numeric(8,2)" }, valid_from: valid_from, note: note }
        rules:
          fare is not negative: price >= 0
        into: { table: agency.fare, mode: upsert, key: [fare_code], deleted: remove }
        proof: { by: { column: sheet, slice: origin }, figures: [rows, sum(price)] }
      tariff:
        from: { connection: fares, files: tariff-2026.xlsx, sheets: "Tariff *", origin: tariff }
        into: { table: agency.tariff, mode: upsert, key: [tariff, from, to], deleted: remove }
        proof: { figures: [rows, sum(price)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  takings:
    title: Takings of the ports' tills
    owner: Fare office
    note: A file a day comes by SFTP. Once it is loaded it is moved aside.
    warehouse: warehouse
    loads:
      till:
        from: { connection: drop, files: "out/*.csv", origin: file, after: move:taken }
        columns: { day: day, till: till, tickets: tickets, takings: { as: takings, type: "numeric(10,2)" }, file: file }
        rules:
          something was taken: takings > 0
        into: { table: harbour.takings, mode: upsert, key: [day, till] }
        proof: { by: { column: day, slice: day }, figures: [rows, sum(takings)] }
    schedule: { every: PT1M, when: arrived, zone: Europe/Oslo }
  gate-service:
    title: Gate service
    owner: Harbour office
    note: The ports' gates tell over HTTP who came through. What changed since is asked for; a scan that was put right comes again.
    warehouse: warehouse
    loads:
      scan:
        from: { connection: gate, path: /scans, records: data, page: { cursor: next, as: after, size: 1000, sizeAs: limit }, since: { parameter: updated_after, excludes: true }, gone: { path: /scans/deleted, records: data, page: { cursor: next, as: after, size: 1000, sizeAs: limit }, since: { parameter: deleted_since } } }
        watermark: { column: updated_at, lookBack: PT10M }
        columns: { scan_id: scan_id, ticket: ticket, port: port, gate: gate, result: result, paid: { as: paid, type: "numeric(8,2)" }, scanned_at: scanned_at, updated_at: updated_at, device: device }
        into: { table: harbour.scan, mode: upsert, key: [scan_id], deleted: remove }
        proof: { by: { column: scanned_at, slice: day, zone: Europe/Oslo }, figures: [rows, sum(paid)] }
      incident:
        from: { connection: gate, path: /incidents, records: data, page: { cursor: next, as: after, size: 500, sizeAs: limit } }
        rules: { an incident takes a while: minutes > 0 }
        report: { path: "/incidents/{incident_id}/comments", body: { text: "Not loaded: {reason}" }, limit: 20 }
        into: { table: harbour.incident, mode: upsert, key: [incident_id], deleted: mark }
        proof: { figures: [rows, sum(minutes)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  till-reports:
    title: What the tills sell
    owner: Fare office
    note: A report by day from each region's account. Each day takes the place of its own rows; the last three are asked for again.
    warehouse: warehouse
    zone: Europe/Oslo
    parameters:
      region: { type: text, default: north, oneOf: [north, south] }
    values: { north: {}, south: { region: south } }
    loads:
      sale:
        from: { connection: "till-{region}", path: /takings, records: rows, parameters: { from: today-P45D, to: today+P1D, split: day, dimensions: "till,product", measures: "sales,amount" }, period: { column: day, again: P3D, ends: included } }
        columns: { region: ":region", day: day, till: till, product: product, sales: sales, amount: { as: amount, type: "numeric(10,2)" } }
        into: { table: harbour.till_sale, part: "region = :region", mode: upsert, key: [region, day, till, product], deleted: remove }
        proof: { by: { column: day, slice: day }, figures: [rows, sum(amount)] }
    schedule: { every: PT1H, zone: Europe/Oslo, values: [north, south] }
  crew:
    title: Crew and shifts
    owner: Crew office
    note: Of shifts the office tells itself what changed and what was struck off.
    warehouse: warehouse
    loads:
      person:
        from: { connection: crew, table: People }
        watermark: { column: UpdatedAt, lookBack: PT10M }
        columns: { person_id: PersonId, name: Name, rank: Rank, hired: Hired, phone: Phone, updated_at: UpdatedAt }
        into: { table: fleet.person, mode: upsert, key: [person_id] }
        proof: { figures: [rows, max(updated_at)] }
      shift:
        from: { connection: crew, table: Shifts }
        columns: { person_id: PersonId, number: Number, vessel: Vessel, begins_at: BeginsAt, hours: Hours, open: Open, updated_at: UpdatedAt }
        into: { table: fleet.shift, mode: upsert, key: [person_id, number], deleted: remove }
        proof: { by: { column: begins_at, slice: day, zone: Europe/Oslo }, figures: [rows, sum(hours)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  tides:
    title: Tides at the quay
    owner: Harbour office
    note: Read by a module of our own, tides.mjs.
    warehouse: warehouse
    loads:
      reading:
        from: { connection: tides, table: readings }
        watermark: { column: measured_at, lookBack: PT2H }
        into: { table: harbour.tide, mode: upsert, key: [reading_id] }
        proof: { by: { column: measured_at, slice: day, zone: Europe/Oslo }, figures: [rows, sum(metres)] }
    schedule: { every: PT1H, zone: Europe/Oslo }
  workshop:
    title: Workshop
    owner: Technical department
    warehouse: warehouse
    loads:
      repair:
        from: { connection: workshop, table: workshop.repair }
        watermark: { column: updated_at, lookBack: PT10M }
        into: { table: fleet.repair, mode: upsert, key: [repair_id], deleted: remove }
        proof: { by: { column: found_on, slice: day }, figures: [rows, sum(cost), max(updated_at)] }
      part:
        from: { connection: workshop, table: workshop.part }
        into: { table: fleet.part, mode: upsert, key: [part_id] }
        proof: { figures: [rows, sum(price), sum(quantity)] }
    schedule: { cron: 15 * * * *, zone: Europe/Oslo }
  port-gates:
    title: Gates of {port}
    owner: Harbour office
    labels: [gates, one for each port]
    note: |
      Scans at the gates since the first day of last month, **one set of values for each port**. The harbour office reads
      them from the port's own morning sheet.
    warehouse: warehouse
    zone: Europe/Oslo
    parameters:
      port: { type: text, default: KIL, note: the code of one of the eleven ports }
      since: { type: date, default: month-P1M, note: the first day whose scans are kept }
    values: { SKV: {port: SKV}, HOL: {port: HOL}, TER: {port: TER}, LUN: {port: LUN}, GRA: {port: GRA}, VES: {port: VES}, KIL: {}, ORM: {port: ORM}, STA: {port: STA}, FUR: {port: FUR}, MAR: {port: MAR} }
    loads:
      scan:
        from:
          connection: bookings
          query: SELECT g.scan_id, p.code, p.region, g.gate, g.booking_id, g.scanned_at FROM gate_scan g JOIN port p USING (port_id) WHERE p.code = :port AND g.scanned_at >= :since
        watermark: { column: scanned_at, lookBack: PT10M }
        columns: { scan_id: scan_id, port: code, region: region, gate: gate, booking_id: booking_id, scanned_at: scanned_at }
        into: { table: harbour.port_scan, part: "port = :port", mode: upsert, key: [scan_id], deleted: remove }
        proof: { by: { column: scanned_at, slice: day, zone: Europe/Oslo }, figures: [rows, max(scanned_at)] }
    schedules:
      - { cron: 15 5 * * *, zone: Europe/Oslo, values: [SKV, HOL, TER, LUN, GRA, VES, KIL, ORM, STA, FUR, MAR] }
      - { after: harbour-day, on: proved, values: [KIL, SKV], apart: [histories] }
      - { cron: 0 4 * * 0, zone: Europe/Oslo, do: sweep, values: [SKV, HOL, TER, LUN, GRA, VES, KIL, ORM, STA, FUR, MAR] }
`;
