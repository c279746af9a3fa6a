import type { Ruleset } from "../../rules/ruleset.js";
import type { Schema } from "../../schema/schema.js";
import type { SessionOptions } from "../session-options.js";
import type { SessionParts } from "../session-parts.js";

/** A compiled document, as far as it opens sessions. */
export interface Opener {
  readonly ruleset: Ruleset;
  readonly schema: Schema;
  open(options: SessionOptions): SessionParts;
}
