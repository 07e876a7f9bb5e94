import Joi from "joi";
import type { ModuleSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { parallel } from "./settings.ts";

export const module: ConnectionKind<ModuleSettings> = {
  title: "Module",
  settings: {
    kind: Joi.string().valid("module").required(),
    file: Joi.string()
      .pattern(/^[A-Za-z0-9][A-Za-z0-9_.-]*\.(mjs|js|ts)$/, "file")
      .max(200)
      .required()
      .messages({ "string.pattern.name": "{{#label}} is the name of a file that ends in .mjs, .js or .ts" }),
    settings: Joi.object().pattern(
      Joi.string().max(100),
      Joi.alternatives(Joi.string().allow("").max(10_000), Joi.number(), Joi.boolean()),
    ),
    hosts: Joi.array()
      .items(
        Joi.string()
          .pattern(/^[^\s/\\@,*]+$/)
          .max(255),
      )
      .max(50)
      .unique(),
    seconds: Joi.number().integer().min(1).max(86_400),
    megabytes: Joi.number().integer().min(32).max(4096),
    parallel,
  },
  secret: null,
  warehouse: false,
  asks: false,
  lists: "sets",
  takes: false,
  told: () => null,
  defaults: {},
  // What it may reach is as weighty as what it may read.
  reserved: ({ hosts }) => hosts ?? [],
  address: ({ file }) => [file],
  place: ({ file }) => file,
  manner: ({ hosts }) => (hosts?.length ? `may ask ${hosts.join(", ")}` : null),
  written: ({ file, settings, hosts, seconds, megabytes, parallel: many }) => ({
    file,
    ...(settings && Object.keys(settings).length ? { settings } : {}),
    ...(hosts?.length ? { hosts } : {}),
    ...(seconds ? { seconds } : {}),
    ...(megabytes ? { megabytes } : {}),
    ...(many ? { parallel: many } : {}),
  }),
};
