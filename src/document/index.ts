export { type Data, type DataFile, readData, readRoles } from "./data.js";
export { compileText, type ParsedDocument, parseDocument, type TextOptions } from "./parse-document.js";
