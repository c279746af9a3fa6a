import type { Schema } from "../../schema/schema.js";
import type { Session } from "../session.js";
import type { SessionOptions } from "../session-options.js";

/** A compiled document, as far as it opens sessions. */
export interface Opener {
  readonly schema: Schema;
  session(options: SessionOptions): Session;
}
