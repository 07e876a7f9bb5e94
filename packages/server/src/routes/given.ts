import { givenValues } from "@undercoat/core/pipeline/schema";
import Joi from "joi";

/** The values that something is looked at or run with. */
export const givenSchema = Joi.object({
  set: Joi.string().max(63).allow(null),
  file: givenValues,
  values: givenValues,
  settings: Joi.object().pattern(/^[\s\S]{1,300}$/, Joi.string().min(1).max(300)),
});
