import { readFileSync } from "node:fs";
import { readProject, writeProject } from "@undercoat/core/pipeline/project";
import { describe, expect, test } from "vitest";
import { schemaFile, schemaText } from "../../../docs/schema.ts";

const file = `undercoat: 1
connections:
  bookings:
    kind: postgres
    host: 127.0.0.1
    port: 5433
    database: bookings
    user: reader
    password: { env: BOOKINGS_PASSWORD }
    tls: off
pipelines:
  harbour-day:
    title: Harbour day
    warehouse: bookings
    loads:
      booking:
        from: { connection: bookings, table: public.booking }
        watermark: { column: version, lookBack: 100 }
        into: { table: harbour.booking, mode: upsert, key: [booking_id], deleted: keep }
        proof: { by: { column: sail_date, slice: day }, figures: [rows, sum(fare)] }
    schedule: { every: PT15M, zone: Europe/Oslo }
`;

const wrong = (change: (text: string) => string) =>
  readProject(change(file)).problems.map(({ line, path, message }) => `${line} ${path.join(".")}: ${message}`);

describe("the project file", () => {
  test("is read, and written back without secrets", () => {
    const { project, problems } = readProject(file);
    expect(problems).toEqual([]);
    expect(project?.connections?.bookings).toMatchObject({ tls: "off" });
    expect(project?.pipelines?.["harbour-day"]?.loads.booking?.watermark?.lookBack).toBe("100");
    const written = writeProject(project as never);
    expect(written).not.toContain("PASSWORD");
    expect(readProject(written).project?.pipelines).toEqual(project?.pipelines);
  });

  test.each([
    [
      (text: string) => text.replace("mode: upsert, ", "mode: merge, "),
      /^19 pipelines\.harbour-day\.loads\.booking\.into\.mode:/,
    ],
    [
      (text: string) => text.replace("key: [booking_id], ", ""),
      /^19 pipelines\.harbour-day\.loads\.booking\.into\.key: .*identify a row/,
    ],
    [(text: string) => text.replace("PT15M", "PT15"), /^21 pipelines\.harbour-day\.schedule\.every: .*ISO 8601/],
    [(text: string) => text.replace("Europe/Oslo", "Oslo"), /^21 .*not a time zone/],
    [(text: string) => text.replace("port: 5433", "port: 99999"), /^6 connections\.bookings\.port/],
    [
      (text: string) => text.replace("table: public.booking }", "tabel: public.booking }"),
      /^17 .*(not allowed|table or a query)/,
    ],
    [(text: string) => text.replace("undercoat: 1", "undercoat: 2"), /^1 undercoat/],
    [(text: string) => `${text}  harbour-day: {}\n`, /unique/],
    [() => "[1, 2", /^1 /],
    [() => "just text", /not a project file/],
  ])("tells line, path and reason (%#)", (change, expected) => {
    expect(wrong(change).join("\n")).toMatch(expected);
  });
});

test("the published JSON Schema is the one the server checks with", () => {
  expect(readFileSync(schemaFile, "utf8")).toBe(schemaText());
});
