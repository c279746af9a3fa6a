import type { Judge } from "../conditions/evaluate.js";
import type { Expression } from "../conditions/expression.js";
import type { Row } from "../conditions/source.js";
import { type ActionTree, actionTree, type GateNode, type ShowAction } from "../rules/action-tree.js";
import type { ActionName } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import { bound } from "../session/bound.js";
import { compileTruth, conditionOf } from "../session/conditions.js";
import type { Gate } from "../session/gate.js";
import { internals } from "../session/internals.js";
import { lookupTest } from "../session/lookups.js";
import type { TablePlan } from "../session/plan.js";
import type { Session } from "../session/session.js";
import { distinctWays } from "../session/table-gates.js";
import { type RecordSet, RecordSets } from "./record-sets.js";

/**
 * On which records of one table sessions permit what, for many sessions that read the same source. Persons for whom the
 * rules come to the same share everything, and others every single test that their conditions have in common.
 */
export class PermittedSets {
  readonly sets: RecordSets;
  readonly #table: string;
  readonly #views = new Map<string, ClassView>();

  constructor(table: string, rows: readonly Row[]) {
    this.#table = table;
    this.sets = new RecordSets(rows);
  }

  /** The records on which the session permits the action, as `session.may` answers one by one; of a field, or of any. */
  permitted(session: Session, action: ActionName, field?: string): RecordSet {
    try {
      return this.#viewOf(session).permitted(action, field);
    } catch {
      // A fault, such as a source that fails: the session denies where it meets it, and reports it.
      return this.sets.where((row) => session.may(action, this.#table, row, field));
    }
  }

  #viewOf(session: Session): ClassView {
    const { plan, values, reading, subject } = internals(session);
    const key = subject.classKey();
    let view = this.#views.get(key);
    if (view === undefined) {
      const own = plan.of(this.#table);
      const judge: Judge = (action, table) => compileTruth(plan.judged(table), action);
      const meeting = (condition: Expression) => this.sets.meeting(bound(condition, { values }), reading, judge, key);
      const shows = (field: Field, action: ShowAction) => {
        const shown = lookupTest(own, action, field);
        const through = field.lookup?.through;
        const picks = (row: Row) => shown(row, reading);
        return through === undefined ? this.sets.where(picks) : this.sets.whereBy(through, picks);
      };
      view = new ClassView(own, this.sets, meeting, shows);
      this.#views.set(key, view);
    }
    return view;
  }
}

/** What one class of equal persons may do with the records: the same questions as the session's own decisions ask. */
class ClassView {
  readonly #plan: TablePlan;
  readonly #sets: RecordSets;
  readonly #meeting: (condition: Expression) => RecordSet;
  readonly #shows: (field: Field, action: ShowAction) => RecordSet;
  readonly #gates = new Map<Gate, RecordSet>();
  readonly #attempts = new Map<Gate, RecordSet>();
  readonly #answers = new Map<string, RecordSet>();

  constructor(
    plan: TablePlan,
    sets: RecordSets,
    meeting: (condition: Expression) => RecordSet,
    shows: (field: Field, action: ShowAction) => RecordSet,
  ) {
    this.#plan = plan;
    this.#sets = sets;
    this.#meeting = meeting;
    this.#shows = shows;
  }

  permitted(action: ActionName, fieldName: string | undefined): RecordSet {
    const key = `${action} ${fieldName ?? ""}`;
    const known = this.#answers.get(key);
    if (known !== undefined) return known;
    const field = fieldName === undefined ? undefined : this.#plan.field(fieldName);
    const set = this.#set(actionTree(this.#plan.table, action, field));
    this.#answers.set(key, set);
    return set;
  }

  #set(tree: ActionTree): RecordSet {
    switch (tree.kind) {
      case "gate":
        return this.#gate(tree);
      case "all":
        return tree.parts.map((part) => this.#set(part)).reduce((a, b) => this.#sets.both(a, b));
      case "any":
        return this.#sets.any(distinctWays(this.#plan, tree.ways).map((way) => this.#set(way.tree)));
      case "known":
        return this.#sets.both(this.#set(tree.known), this.#set(tree.next));
      case "made":
        return this.#sets.both(this.#set(tree.act), this.#set(tree.next));
      case "source":
        return this.#sets.both(this.#set(tree.record), this.#shows(tree.field, tree.action));
      default:
        return tree satisfies never;
    }
  }

  #gate(node: GateNode): RecordSet {
    const sets = node.isTried ? this.#attempts : this.#gates;
    const gate = this.#plan.gate(node);
    const set = sets.get(gate) ?? this.#meeting(conditionOf(this.#plan, node));
    sets.set(gate, set);
    return set;
  }
}
