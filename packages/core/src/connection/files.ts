import Joi from "joi";
import type { FilesSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { parallel } from "./settings.ts";

export const files: ConnectionKind<FilesSettings> = {
  title: "Files",
  settings: {
    kind: Joi.string().valid("files").required(),
    path: Joi.string()
      .pattern(/^(?!\/)(?!.*(^|\/)\.\.(\/|$))[^\0\\]+$/)
      .max(500)
      .required()
      .messages({
        "string.pattern.base": "{{#label}} is a folder below the one that the administrator allows, without ..",
      }),
    parallel,
  },
  secret: null,
  warehouse: false,
  asks: false,
  lists: "files",
  takes: true,
  told: () => null,
  defaults: {},
  reserved: () => [],
  address: ({ path }) => [path],
  place: ({ path }) => `the folder ${path}`,
  manner: () => null,
  written: ({ path, parallel: many }) => ({ path, ...(many ? { parallel: many } : {}) }),
};
