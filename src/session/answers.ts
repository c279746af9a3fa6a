import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Yes } from "../conditions/yes.js";
import { type ActionTree, actionTree } from "../rules/action-tree.js";
import type { Action, ActionName } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import { compileDecision } from "./decide.js";
import type { Decision } from "./decision.js";
import type { Decide } from "./gate.js";
import { compilePermits } from "./permits.js";
import type { Reach } from "./reach.js";
import type { TableGates } from "./table-gates.js";
import { treeReach } from "./table-reach.js";

/** Where names that callers give are looked up. */
interface Names {
  checkAction(name: unknown): Action;
  field(name: string): Field;
}

/** What answers the questions of one action on a table: by field, or undefined for the record as a whole. */
export class Answers {
  readonly #plan: TableGates & Names;
  readonly #name: ActionName;
  readonly #action: Action;
  readonly #decide = new Map<string | undefined, Decide>();
  readonly #permits = new Map<string | undefined, Yes>();
  readonly #reach = new Map<string | undefined, Reach>();

  /** @throws PortierError for a word that is not an action of the table. */
  constructor(plan: TableGates & Names, name: ActionName) {
    this.#plan = plan;
    this.#name = name;
    this.#action = plan.checkAction(name);
  }

  /**
   * The decision about one field, or without one about the record: for actions that speak of fields that is whether any
   * field lets through. Ready to be called for every record.
   *
   * @throws PortierError for a field that the table does not have, or of an action that speaks of records.
   */
  decide(field: string | undefined): Decide {
    const known = this.#decide.get(field);
    if (known !== undefined) return known;
    const made = failingLater(this.#treeOf(field), (tree): Decide => compileDecision(this.#plan, tree));
    this.#decide.set(field, made);
    return made;
  }

  /** The yes or no of {@link decide}, without the reason. */
  permits(field: string | undefined): Yes {
    const known = this.#permits.get(field);
    if (known !== undefined) return known;
    const made = failingLater(this.#treeOf(field), (tree): Yes => compilePermits(this.#plan, tree));
    this.#permits.set(field, made);
    return made;
  }

  /** On how many records it is permitted, as far as can be said without looking at any. */
  reach(field: string | undefined): Reach {
    const reach = this.#reach.get(field) ?? treeReach(this.#plan, this.#treeOf(field));
    this.#reach.set(field, reach);
    return reach;
  }

  #treeOf(name: string | undefined): ActionTree {
    const field = name === undefined ? undefined : this.#plan.field(name);
    if (this.#action.target === "record" && field !== undefined) {
      const hint = "leave the field out";
      throw portierError("wrong-call", { what: `${this.#name} speaks of a record, not of a field`, hint });
    }
    return actionTree(this.#plan.table, this.#name, field);
  }
}

/** A plan that cannot be made (the person's own records could not be read) is a fault of each answer that needs it. */
function failingLater<A extends (row: Row, reading: Reading) => Decision | boolean>(
  tree: ActionTree,
  make: (tree: ActionTree) => A,
): A | (() => never) {
  try {
    return make(tree);
  } catch (fault) {
    return () => {
      throw fault;
    };
  }
}
