import Joi from "joi";
import type { HttpSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { apart, webAddress, webManner, webSettings, webWritten } from "./web.ts";

export const http: ConnectionKind<HttpSettings> = {
  title: "HTTP",
  settings: {
    kind: Joi.string().valid("http").required(),
    ...webSettings,
    describe: Joi.string().min(1).max(2000),
  },
  secret: "password",
  warehouse: false,
  asks: false,
  takes: false,
  told: () => "requests",
  lists: "resources",
  apart,
  defaults: {},
  reserved: () => [],
  address: webAddress,
  place: ({ url }) => url,
  manner: webManner,
  written: (settings) => ({ ...webWritten(settings), ...(settings.describe ? { describe: settings.describe } : {}) }),
};
