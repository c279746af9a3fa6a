export { type JsonFileStore, type JsonFileStoreOptions, jsonFileStore } from "./json-file-store.js";
export { provisionFile } from "./scim/file.js";
export { type ScimHandlerOptions, scimHandler } from "./scim/handler.js";
export type { ScimOptions } from "./scim/provisioning.js";
