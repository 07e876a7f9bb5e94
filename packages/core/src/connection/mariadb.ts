import Joi from "joi";
import type { MariaSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { networkAddress, networkManner, networkPlace, networkSettings, toldBySql } from "./settings.ts";

const port = 3306;

export const mariadb: ConnectionKind<MariaSettings> = {
  title: "MariaDB",
  settings: {
    kind: Joi.string().valid("mariadb").required(),
    ...networkSettings(port),
    zeroDates: Joi.string().valid("reject", "null"),
  },
  secret: "password",
  warehouse: false,
  asks: true,
  lists: "tables",
  takes: false,
  told: toldBySql,
  defaults: { port, tls: "off" },
  reserved: ({ marks }) => (marks ? ["marks"] : []),
  address: networkAddress,
  place: networkPlace,
  manner: networkManner,
  written: ({ host, port: at, database, user, tls, parallel, marks, zeroDates }) => ({
    host,
    port: at ?? port,
    database,
    user,
    tls: tls ?? "off",
    ...(parallel ? { parallel } : {}),
    ...(marks ? { marks } : {}),
    ...(zeroDates ? { zeroDates } : {}),
  }),
};
