export type { Row, Source } from "../conditions/source.js";
export type { CompiledDocument } from "../session/compiled.js";
export { openCompiled } from "../session/open-compiled.js";
