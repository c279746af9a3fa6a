export { canonicalJson } from "./canonical.js";
export { type Data, type DataFile, readData, readRoles, recordKey } from "./data.js";
export { editText } from "./edit-text.js";
export { compileText, type ParsedDocument, parseDocument, type TextOptions } from "./parse-document.js";
