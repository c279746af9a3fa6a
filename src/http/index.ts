export type { Identity } from "../session/identity.js";
export { type AccessHandler, accessHandler } from "./handler.js";
export { type OpenApiOptions, openApi } from "./openapi.js";
export type { HttpDescription, HttpLimits, HttpOptions } from "./options.js";
export type { ProblemDetails } from "./problem.js";
