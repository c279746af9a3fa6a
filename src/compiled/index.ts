export type { Row, Source } from "../conditions/source.js";
export { type CompiledDocument, openCompiled } from "../session/compiled.js";
