import Joi from "joi";
import type { ODataSettings } from "../pipeline/pipeline.ts";
import type { ConnectionKind } from "./kind.ts";
import { apart, webAddress, webManner, webSettings, webWritten } from "./web.ts";

export const odata: ConnectionKind<ODataSettings> = {
  title: "OData 4",
  settings: { kind: Joi.string().valid("odata").required(), ...webSettings },
  secret: "password",
  warehouse: false,
  asks: false,
  lists: "sets",
  takes: false,
  told: () => "requests",
  apart,
  defaults: {},
  reserved: () => [],
  address: webAddress,
  place: ({ url }) => url,
  manner: webManner,
  written: webWritten,
};
