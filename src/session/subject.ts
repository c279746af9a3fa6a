import type { Expression } from "../conditions/expression.js";
import type { Known } from "../conditions/specialize.js";
import type { Rule } from "../rules/rule.js";
import type { Table } from "../schema/schema.js";

/** The current user, as far as the residual of a rule depends on it. */
export interface Subject {
  /** False for a person who is inactive or not in the people table: no rule is met, `anyone` included. */
  readonly meets: boolean;
  readonly signedIn: Expression;
  /** Whether the person holds the role or is in the group; the open expression where that is not known. */
  readonly membership: (name: string) => Expression;
  /** Whether a rule that is there for a time is there now. */
  readonly inForce: (rule: Rule) => Expression;
  readonly known: Known;
  /** What is set of the person on a table, as rules. */
  readonly settings: (table: Table) => readonly Rule[];
}
