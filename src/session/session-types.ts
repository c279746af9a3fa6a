import type { BuiltInAction } from "../rules/actions.js";
import type { TableOf, TableTypes } from "../schema/table-types.js";

/** A built-in action, or one that the table declares. */
export type ActionOf<T extends TableTypes, K extends TableOf<T>> = BuiltInAction | T[K]["action"];

/** A record of a declared table as a person sees it: what is hidden is not there. */
export type Masked<T extends TableTypes, K extends TableOf<T>> = Partial<T[K]["row"]>;
