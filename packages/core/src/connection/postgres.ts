import Joi from "joi";
import { type ServerSettings, serverDefaults } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { networkAddress, networkManner, networkPlace, networkSettings, toldBySql } from "./settings.ts";

export const postgres: ConnectionKind<ServerSettings> = {
  title: "PostgreSQL",
  settings: {
    kind: Joi.string().valid("postgres").required(),
    ...networkSettings(serverDefaults.port),
    functions: Joi.array()
      .items(Joi.string().pattern(/^[^.]{1,63}\.[^.]{1,63}$/))
      .max(200)
      .messages({ "string.pattern.base": "{{#label}} is written as schema.name" }),
  },
  secret: "password",
  warehouse: true,
  asks: true,
  lists: "tables",
  takes: false,
  told: toldBySql,
  defaults: serverDefaults,
  reserved: ({ functions = [], marks }) => [...functions, ...(marks ? ["marks"] : [])],
  address: networkAddress,
  place: networkPlace,
  manner: networkManner,
  written: ({ host, port, database, user, tls, parallel: many, marks, functions }) => ({
    host,
    port: port ?? serverDefaults.port,
    database,
    user,
    tls: tls ?? serverDefaults.tls,
    ...(many ? { parallel: many } : {}),
    ...(marks ? { marks } : {}),
    ...(functions?.length ? { functions } : {}),
  }),
};
