export { readInstant } from "../schema/instant.js";
export { canonicalJson } from "./canonical.js";
export { copyRole, copyRule, type RuleCopy } from "./copy.js";
export { type Data, type DataFile, readData, readRoles, recordKey } from "./data.js";
export { editText } from "./edit-text.js";
export { compileText, type ParsedDocument, parseDocument, parsePlaced, type TextOptions } from "./parse-document.js";
