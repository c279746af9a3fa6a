export { type JsonFileStore, type JsonFileStoreOptions, jsonFileStore } from "./json-file-store.js";
export { observedFile } from "./observed-file.js";
export { provisionFile } from "./scim/file.js";
export { type ScimHandlerOptions, type ScimLimits, scimHandler } from "./scim/handler.js";
export type { ScimOptions } from "./scim/provisioning.js";
