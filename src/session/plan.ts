import type { Reading } from "../conditions/evaluate.js";
import type { Row } from "../conditions/source.js";
import { type ActionName, actionNames, isActionName } from "../rules/actions.js";
import type { Ruleset } from "../rules/compile-rules.js";
import { portierError } from "../schema/problems.js";
import type { Field, Table } from "../schema/schema.js";
import { compileDecision, compileKnows } from "./decide.js";
import { type Decide, type Gate, makeSteps, type Step } from "./gate.js";
import type { Subject } from "./subject.js";
import { actGate, type FieldGates, fieldGates, type TableGates, type Visibility, visibility } from "./table-gates.js";

/** The residual of a whole document for one class of equal persons, worked out table by table as it is asked for. */
export class Plan {
  readonly #ruleset: Ruleset;
  readonly #subject: Subject;
  readonly #tables = new Map<string, TablePlan>();

  constructor(ruleset: Ruleset, subject: Subject) {
    this.#ruleset = ruleset;
    this.#subject = subject;
  }

  /** @throws PortierError for a table that the document does not have. */
  of(name: string): TablePlan {
    const known = this.#tables.get(name);
    if (known !== undefined) return known;
    const { tables } = this.#ruleset.schema;
    const table = tables.get(name);
    if (table === undefined) throw portierError("unknown-table", { name: String(name), candidates: tables.keys() });
    const plan = new TablePlan(this.#ruleset, this.#subject, table);
    this.#tables.set(name, plan);
    return plan;
  }
}

/** What one class of equal persons may do with one table. Each part is worked out when it is first asked for. */
export class TablePlan implements TableGates {
  readonly table: Table;
  readonly #steps: (action: ActionName) => Step[];
  readonly #decisions: Readonly<Record<ActionName, Map<string | undefined, Decide>>>;
  #list: Visibility | undefined;
  #view: Visibility | undefined;
  #edit: FieldGates | undefined;
  #create: (FieldGates & { readonly act: Gate }) | undefined;
  #delete: Gate | undefined;
  #knows: ((row: Row, reading: Reading) => boolean) | undefined;

  constructor(ruleset: Ruleset, subject: Subject, table: Table) {
    this.table = table;
    this.#steps = (action) => makeSteps(ruleset.of(table.name, action), action, subject);
    this.#decisions = { list: new Map(), view: new Map(), create: new Map(), edit: new Map(), delete: new Map() };
  }

  /** A permitted view also permits list, and what is denied for either is not listed. */
  get list(): Visibility {
    this.#list ??= visibility(this.table, [
      ["list", this.#steps("list")],
      ["view", this.#steps("view")],
    ]);
    return this.#list;
  }

  get view(): Visibility {
    this.#view ??= visibility(this.table, [["view", this.#steps("view")]]);
    return this.#view;
  }

  get edit(): FieldGates {
    this.#edit ??= fieldGates(this.table, [["edit", this.#steps("edit")]]);
    return this.#edit;
  }

  get create(): FieldGates & { readonly act: Gate } {
    if (this.#create === undefined) {
      const steps = this.#steps("create");
      this.#create = { ...fieldGates(this.table, [["create", steps]]), act: actGate(steps, "create") };
    }
    return this.#create;
  }

  get delete(): Gate {
    this.#delete ??= actGate(this.#steps("delete"), "delete");
    return this.#delete;
  }

  /** A record is known if it is listable or viewable; what is not known does not exist for the person. */
  get knows(): (row: Row, reading: Reading) => boolean {
    this.#knows ??= compileKnows(this);
    return this.#knows;
  }

  /**
   * The decision about one field, or without one about the record: for list, view and edit that is whether any field
   * lets through. Ready to be called for every record.
   *
   * @throws PortierError for an action or field that the table does not have.
   */
  decision(action: ActionName, fieldName: string | undefined): Decide {
    // An action that is none finds nothing here, or something inherited that is no map; both are told apart below.
    return this.#decisions[action]?.get?.(fieldName) ?? this.#makeDecision(action, fieldName);
  }

  #makeDecision(action: ActionName, fieldName: string | undefined): Decide {
    this.checkAction(action);
    const field = fieldName === undefined ? undefined : this.field(fieldName);
    if (action === "delete" && field !== undefined) {
      const hint = "leave the field out";
      throw portierError("wrong-call", { what: "delete speaks of a record, not of a field", hint });
    }
    const made = failingLater(() => compileDecision(this, action, field));
    this.#decisions[action].set(fieldName, made);
    return made;
  }

  /** @throws PortierError for a word that is no action. */
  checkAction(action: unknown): void {
    if (typeof action === "string" && isActionName(action)) return;
    const facts = { table: this.table.name, name: String(action), candidates: actionNames };
    throw portierError("unknown-action", facts);
  }

  /** @throws PortierError for a field that the table does not have. */
  field(name: string): Field {
    const { byName, name: table } = this.table;
    const field = byName.get(name);
    if (field !== undefined) return field;
    throw portierError("unknown-field", { table, name: String(name), candidates: byName.keys() });
  }
}

/** A plan that cannot be made (the person's own records could not be read) is a fault of each decision that needs it. */
function failingLater(make: () => Decide): Decide {
  try {
    return make();
  } catch (fault) {
    return () => {
      throw fault;
    };
  }
}
