import Joi from "joi";

/** Settings that several kinds of connection have. */

// A path would be a socket's folder, where a server may take whoever comes for its own superuser.
export const hostName = Joi.string()
  .pattern(/^[^\s/\\@,]+$/)
  .max(255)
  .messages({ "string.pattern.base": "{{#label}} is a host's name or address, not a path" });

export const parallel = Joi.number().integer().min(1).max(64);
