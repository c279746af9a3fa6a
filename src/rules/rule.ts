import type { Expression } from "../conditions/expression.js";
import type { Path } from "../schema/problems.js";
import type { Field, IgnoredWarnings, Table } from "../schema/schema.js";
import type { ActionName } from "./actions.js";
import type { CellArea } from "./cells.js";
import type { Effect } from "./effects.js";

/** A rule with every name resolved. Immutable. */
export interface Rule {
  /** `table/name`, or for a rule of every table, in each of them, the name behind a star; the same everywhere. */
  readonly address: string;
  readonly table: Table;
  readonly effect: Effect;
  readonly to: readonly Who[];
  readonly except: readonly Who[];
  readonly where: Expression;
  /** What a change must lead to; undefined when the rule does not say. */
  readonly becomes: Expression | undefined;
  /** A block or confirm that applies to an edit if `where` holds before or after. */
  readonly alsoAfter: boolean;
  /** Canonical instants: the rule is there while `from <= now < until`. */
  readonly from: string | undefined;
  readonly until: string | undefined;
  readonly extents: ReadonlyMap<ActionName, Extent>;
  readonly note: string | undefined;
  /** The address of the rule that it was copied from, and is the same as but for whom it is for; until it differs. */
  readonly copyOf: string | undefined;
  readonly ignore: IgnoredWarnings;
  /** A rule that stands for all that are the same but for address, cells and note: what is asked of a person is asked once. */
  readonly pattern?: Rule | undefined;
  /** Where the rule stands in the document. */
  readonly path: Path;
}

/** One entry of `to` or `except`, with the spelling it has in the document. */
export type Who =
  | { readonly kind: "anyone" | "signed-in"; readonly text: string }
  /** A role or a group that the person holds or is in. */
  | { readonly kind: "member"; readonly name: string; readonly text: string }
  /** Depends on the record or on who the person is: `owner`, `above owner`, `above FIELD`, `ROLE of PATH`, `person KEY`. */
  | { readonly kind: "related"; readonly met: Expression; readonly text: string };

/** What a rule's effect covers for one action. */
export interface Extent {
  readonly fields: ReadonlySet<Field>;
  /** Covers the action itself: `yes` on a record action; creating at all. */
  readonly act: boolean;
  /** For a grid: which rows of each field, and which rows are held as rows. Undefined: all rows. */
  readonly cells: CellArea | undefined;
}
