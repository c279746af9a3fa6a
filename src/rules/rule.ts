import type { Expression } from "../conditions/expression.js";
import type { Field, Table } from "../schema/schema.js";
import type { ActionName } from "./actions.js";
import type { Effect } from "./effects.js";

/** A rule with every name resolved. Immutable. */
export interface Rule {
  /** `table/name`, the same everywhere: explanations, tests, lint. */
  readonly address: string;
  readonly table: Table;
  readonly effect: Effect;
  readonly to: readonly Who[];
  readonly except: readonly Who[];
  readonly where: Expression;
  /** What a change must lead to; undefined when the rule does not say. */
  readonly becomes: Expression | undefined;
  readonly extents: ReadonlyMap<ActionName, Extent>;
  readonly note: string | undefined;
}

/** One entry of `to` or `except`, with the spelling it has in the document. */
export type Who =
  | { readonly kind: "anyone" | "signed-in"; readonly text: string }
  | { readonly kind: "role"; readonly role: string; readonly text: string }
  /** Depends on the record: `owner`, `above owner`, `above FIELD`. */
  | { readonly kind: "related"; readonly met: Expression; readonly text: string };

/** What a rule's effect covers for one action. */
export interface Extent {
  readonly fields: ReadonlySet<Field>;
  /** Covers the action itself: `yes` on a record action; creating at all. */
  readonly act: boolean;
}
