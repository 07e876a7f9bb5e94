import Joi from "joi";
import type { SftpSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { networkSettings } from "./settings.ts";

const port = 22;
const { host, port: portSchema, user, parallel } = networkSettings(port);

export const sftp: ConnectionKind<SftpSettings> = {
  title: "SFTP",
  settings: {
    kind: Joi.string().valid("sftp").required(),
    host,
    port: portSchema,
    user,
    hostKey: Joi.string()
      .pattern(/^SHA256:[A-Za-z0-9+/]{43}$/)
      .messages({ "string.pattern.base": "{{#label}} is a fingerprint as ssh prints it: SHA256: and 43 signs" }),
    path: Joi.string()
      .pattern(/^[^\0\\]+$/)
      .max(500)
      .default("."),
    parallel,
  },
  secret: "password",
  warehouse: false,
  asks: false,
  lists: "files",
  takes: false,
  told: () => null,
  defaults: { port, path: "." },
  reserved: () => [],
  // Another key of the host's is another host.
  address: (settings) => [settings.host, settings.port, settings.user, settings.hostKey ?? ""],
  place: (settings) => `${settings.path} at ${settings.host}:${settings.port}`,
  manner: (settings) => settings.user,
  written: ({ host: at, port: number, user: who, hostKey, path, parallel: many }) => ({
    host: at,
    port: number ?? port,
    user: who,
    ...(hostKey ? { hostKey } : {}),
    path: path ?? ".",
    ...(many ? { parallel: many } : {}),
  }),
};
