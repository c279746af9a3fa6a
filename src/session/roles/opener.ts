import type { Schema } from "../../schema/schema.js";
import type { Session, SessionOptions } from "../session.js";

/** A compiled document, as far as it opens sessions. */
export interface Opener {
  readonly schema: Schema;
  session(options: SessionOptions): Session;
}
