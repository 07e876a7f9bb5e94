import Joi from "joi";
import type { NetworkSettings } from "../pipeline/pipeline.ts";

/** Settings that several kinds of connection have. */

// A path would be a socket's folder, where a server may take whoever comes for its own superuser.
const hostName = Joi.string()
  .pattern(/^[^\s/\\@,]+$/)
  .max(255)
  .messages({ "string.pattern.base": "{{#label}} is a host's name or address, not a path" });

export const parallel = Joi.number().integer().min(1).max(64);

/** The settings of a server that is reached by network. */
export const networkSettings = (port: number) => ({
  host: hostName.required(),
  port: Joi.number().integer().min(1).max(65_535).default(port),
  database: Joi.string().min(1).max(63).required(),
  user: Joi.string().min(1).max(63).required(),
  tls: Joi.string().valid("off", "require", "verify").default("off"),
  parallel,
  marks: Joi.boolean().valid(true),
});

/** How a server that takes SQL is told of rejected rows: by statements, where an administrator lets it be written to. */
export const toldBySql = ({ marks }: NetworkSettings) => (marks ? ("statements" as const) : null);

export const networkAddress = ({ host, port, database, user, tls }: NetworkSettings) => [
  host,
  port,
  database,
  user,
  tls,
];
export const networkPlace = ({ host, port, database }: NetworkSettings) => `${database} at ${host}:${port}`;
export const networkManner = ({ user, tls }: NetworkSettings) => `${user}, TLS ${tls}`;
