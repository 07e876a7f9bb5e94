import Joi from "joi";
import { type ServerSettings, serverDefaults } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { hostName, parallel } from "./settings.ts";

export const postgres: ConnectionKind<ServerSettings> = {
  title: "PostgreSQL",
  settings: {
    kind: Joi.string().valid("postgres").required(),
    host: hostName.required(),
    port: Joi.number().integer().min(1).max(65_535).default(serverDefaults.port),
    database: Joi.string().min(1).max(63).required(),
    user: Joi.string().min(1).max(63).required(),
    tls: Joi.string().valid("off", "require", "verify").default(serverDefaults.tls),
    parallel,
    functions: Joi.array()
      .items(Joi.string().pattern(/^[^.]{1,63}\.[^.]{1,63}$/))
      .max(200)
      .messages({ "string.pattern.base": "{{#label}} is written as schema.name" }),
  },
  secret: "password",
  warehouse: true,
  asks: true,
  defaults: serverDefaults,
  reserved: ({ functions }) => functions ?? [],
  address: ({ host, port, database, user, tls }) => [host, port, database, user, tls],
  place: ({ host, port, database }) => `${database} at ${host}:${port}`,
  manner: ({ user, tls }) => `${user}, TLS ${tls}`,
  written: ({ host, port, database, user, tls, parallel: many, functions }) => ({
    host,
    port: port ?? serverDefaults.port,
    database,
    user,
    tls: tls ?? serverDefaults.tls,
    ...(many ? { parallel: many } : {}),
    ...(functions?.length ? { functions } : {}),
  }),
};
