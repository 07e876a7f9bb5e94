import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { modulesIn } from "@undercoat/engine/source/module/module";
import { afterAll, beforeAll, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

let house: TestHouse;
let folder: string;
beforeAll(async () => {
  house = await makeHouse("modules");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
  folder = await mkdtemp(join(tmpdir(), "undercoat-modules-"));
  modulesIn(folder);
});
afterAll(async () => {
  await house.close();
  await rm(folder, { recursive: true });
});

const module = (height: number) => `export const describe = () => ({
  datasets: [{ name: "readings", key: ["id"], fields: { id: "bigint", metres: "numeric" } }],
});
export async function* read() { yield { id: 1, metres: ${height} }; }
`;

test("a version keeps the modules as they were, for those who write pipelines", async () => {
  await writeFile(join(folder, "tides.mjs"), module(1));
  const administrator: TestHouse["ask"] = (...asked) => house.as(house.tokens.administrator)(...asked);
  await administrator("POST", "/connections", { name: "tides", kind: "module", file: "tides.mjs" });
  const pipeline = (title: string) => ({
    title,
    warehouse: "store",
    loads: {
      reading: {
        from: { connection: "tides", table: "readings" },
        into: { table: "harbour.tide", mode: "upsert", key: ["id"] },
      },
    },
  });
  const made = await administrator("POST", "/pipelines", { name: "tides", definition: pipeline("Tides") });
  expect(made.status).toBe(201);
  await writeFile(join(folder, "tides.mjs"), module(2));
  const { updatedAt } = (await administrator("GET", "/pipelines/tides")).body;
  await administrator("PUT", "/pipelines/tides", { definition: pipeline("Tides of the quay"), updatedAt });
  const of = async (number: number, who = administrator) =>
    (await who("GET", `/pipelines/tides/versions/${number}`)).body.modules;
  expect(await of(1)).toEqual({ "tides.mjs": module(1) });
  expect(await of(2)).toEqual({ "tides.mjs": module(2) });
  expect(await of(2, house.as(house.tokens.viewer))).toEqual({});
});
