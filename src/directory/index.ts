export { type JsonFileStore, type JsonFileStoreOptions, jsonFileStore } from "./json-file-store.js";
