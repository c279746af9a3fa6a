export { type Data, type DataFile, readData, readRoles } from "./data.js";
export { editText } from "./edit-text.js";
export { compileText, type ParsedDocument, parseDocument, type TextOptions } from "./parse-document.js";
