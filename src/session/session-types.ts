import type { BuiltInAction } from "../rules/actions.js";
import type { DocumentTypes, RecordOf, TableOf } from "../schema/document-types.js";

/** A built-in action, or one that the table declares. */
export type ActionOf<T extends DocumentTypes, K extends TableOf<T>> = BuiltInAction | T["tables"][K]["action"];

/** A record of a declared table as a person sees it: what is hidden is not there. */
export type Masked<T extends DocumentTypes, K extends TableOf<T>> = Partial<RecordOf<T, K>>;
