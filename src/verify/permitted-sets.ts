import type { Judge } from "../conditions/evaluate.js";
import type { Expression } from "../conditions/expression.js";
import type { Row } from "../conditions/source.js";
import { type ActionName, isBuiltIn } from "../rules/actions.js";
import type { Field } from "../schema/schema.js";
import { compileTruth, conditionOf } from "../session/conditions.js";
import type { Gate } from "../session/gate.js";
import { lookupTest } from "../session/lookups.js";
import type { TablePlan } from "../session/plan.js";
import type { Session } from "../session/session.js";
import { insidesOf } from "../session/session.js";
import { type RecordSet, RecordSets } from "./record-sets.js";

/**
 * On which records of one table sessions permit what, for many sessions that read the same source. Persons for whom the
 * rules come to the same share everything, and others every single test that their conditions have in common.
 */
export class PermittedSets {
  readonly sets: RecordSets;
  readonly #table: string;
  readonly #views = new Map<object, ClassView>();

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
    const { plan, reading } = insidesOf(session);
    let view = this.#views.get(plan);
    if (view === undefined) {
      const own = plan.of(this.#table);
      const judge: Judge = (action, table) => compileTruth(plan.of(table), action);
      const scope = String(this.#views.size);
      const meeting = (condition: Expression) => this.sets.meeting(condition, reading, judge, scope);
      const shows = (field: Field, action: "list" | "view" | "export") => {
        const shown = lookupTest(own, action, field);
        const through = field.lookup?.through;
        const picks = (row: Row) => shown(row, reading);
        return through === undefined ? this.sets.where(picks) : this.sets.whereBy(through, picks);
      };
      view = new ClassView(own, this.sets, meeting, shows);
      this.#views.set(plan, view);
    }
    return view;
  }
}

/** What one class of equal persons may do with the records: the same questions as the session's own decisions ask. */
class ClassView {
  readonly #plan: TablePlan;
  readonly #sets: RecordSets;
  readonly #meeting: (condition: Expression) => RecordSet;
  readonly #shows: (field: Field, action: "list" | "view" | "export") => RecordSet;
  readonly #gates = new Map<Gate, RecordSet>();
  readonly #attempts = new Map<Gate, RecordSet>();
  readonly #answers = new Map<string, RecordSet>();

  constructor(
    plan: TablePlan,
    sets: RecordSets,
    meeting: (condition: Expression) => RecordSet,
    shows: (field: Field, action: "list" | "view" | "export") => RecordSet,
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
    const set = this.#find(action, field);
    this.#answers.set(key, set);
    return set;
  }

  /** About a record as a whole, the plan itself says it as one condition; about a field, its gates are put together. */
  #find(action: ActionName, field: Field | undefined): RecordSet {
    if (field === undefined || !isBuiltIn(action)) return this.#meeting(conditionOf(this.#plan, action));
    switch (action) {
      case "list":
      case "view":
        return this.#visible(action, field);
      case "export":
        return this.#exported(field);
      case "edit":
        return this.#sets.both(this.#known(), this.#attempt("edit", field));
      case "bulk":
        return this.#sets.both(this.#attempt("bulk", field), this.permitted("edit", field.name));
      case "create":
        return this.#made("create", field);
      case "import":
        return this.#sets.both(this.#made("create", field), this.#made("import", field));
      case "delete":
        return this.permitted(action, undefined);
      default:
        return action satisfies never;
    }
  }

  #gate(gate: Gate): RecordSet {
    const set = this.#gates.get(gate) ?? this.#meeting(gate.condition());
    this.#gates.set(gate, set);
    return set;
  }

  #attempt(action: "edit" | "bulk", { index }: Field): RecordSet {
    const gate = this.#plan.fields(action).gates[index] as Gate;
    const set = this.#attempts.get(gate) ?? this.#meeting(gate.attemptCondition());
    this.#attempts.set(gate, set);
    return set;
  }

  #known(): RecordSet {
    return this.#sets.any([this.permitted("list", undefined), this.permitted("view", undefined)]);
  }

  /** The key is seen whenever any field is; a made reference where all its parts are; a lookup where its source is, too. */
  #visible(action: "list" | "view", field: Field): RecordSet {
    if (this.#plan.table.key.includes(field)) return this.permitted(action, undefined);
    const own = this.#gate(this.#plan.seen(action).gates[field.index] as Gate);
    if (field.lookup !== undefined) return this.#sets.both(own, this.#shows(field, action));
    return (field.by ?? []).reduce((set, part) => this.#sets.both(set, this.permitted(action, part.name)), own);
  }

  /** Only what may also be viewed. The key goes out whenever any field does. */
  #exported(field: Field): RecordSet {
    if (this.#plan.table.key.includes(field)) return this.permitted("export", undefined);
    const gate = this.#gate(this.#plan.fields("export").gates[field.index] as Gate);
    const own = field.lookup === undefined ? gate : this.#sets.both(gate, this.#shows(field, "export"));
    const parts = (field.by ?? []).map((part) => this.permitted("export", part.name));
    return [...parts, own].reduce((a, b) => this.#sets.both(a, b), this.permitted("view", field.name));
  }

  #made(action: "create" | "import", field: Field): RecordSet {
    const act = this.#gate(this.#plan.act(action));
    return this.#sets.both(act, this.#gate(this.#plan.fields(action).gates[field.index] as Gate));
  }
}
