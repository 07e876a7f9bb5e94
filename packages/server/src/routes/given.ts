import { givenSettings, givenValues } from "@undercoat/core/pipeline/schema";
import Joi from "joi";

/** The values that something is looked at or run with. */
export const givenSchema = Joi.object({
  set: Joi.string().max(63).allow(null),
  file: givenValues,
  values: givenValues,
  settings: givenSettings,
});
