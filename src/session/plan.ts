import type { Judge } from "../conditions/evaluate.js";
import type { Expression } from "../conditions/expression.js";
import type { Reading } from "../conditions/read.js";
import { keyOf, simplify } from "../conditions/simplify.js";
import type { Row } from "../conditions/source.js";
import { compileYes, type Yes } from "../conditions/yes.js";
import { actionTree, type GateNode, gatesIn, knownTree } from "../rules/action-tree.js";
import { type ActionName, actionNamesOf, actionOf, countingFor } from "../rules/actions.js";
import { portierError } from "../schema/problems.js";
import { type Field, findTable, type KnownTables, type Table } from "../schema/schema.js";
import { Answers } from "./answers.js";
import { compileTruth } from "./conditions.js";
import type { Decide, Gate } from "./gate.js";
import { compilePermits } from "./permits.js";
import { compileStep, type ReadyStep, type Step, type StepData } from "./step.js";
import { actionGate, FieldGates, type TableGates } from "./table-gates.js";

/** Gives the steps of a table and action for the class of persons that a plan is for. */
export type StepSource = (table: Table, action: ActionName) => readonly StepData[];

/** The residual of a whole document for one class of equal persons, worked out table by table as it is asked for. */
export class Plan {
  readonly #schema: KnownTables;
  readonly #steps: StepSource;
  readonly #base: Plan | undefined;
  readonly #tables = new Map<string, TablePlan>();

  /** `base`: what of it has the same steps serves here, too. */
  constructor(schema: KnownTables, steps: StepSource, base?: Plan) {
    this.#schema = schema;
    this.#steps = steps;
    this.#base = base;
  }

  get tables(): Iterable<Table> {
    return this.#schema.tables.values();
  }

  /** Undefined for a table that the document does not have. */
  table(name: string): Table | undefined {
    return this.#schema.tables.get(name);
  }

  /** Of what conditions may read: assignments, too, of which nobody sees anything. */
  read(name: string): Table {
    return findTable(this.#schema, name) ?? this.of(name).table;
  }

  /** @throws PortierError for a table that the document does not have. */
  of(name: string): TablePlan {
    const known = this.#tables.get(name);
    if (known !== undefined) return known;
    const { tables } = this.#schema;
    const table = tables.get(name);
    if (table === undefined) throw portierError("unknown-table", { name: String(name), candidates: tables.keys() });
    const plan = this.#fromBase(table) ?? new TablePlan(this, this.#steps, table);
    this.#tables.set(name, plan);
    return plan;
  }

  /** What another table's rules find when they ask whether something may be done with a record of this one. */
  judged(name: string): TablePlan {
    return this.of(name);
  }

  #fromBase(table: Table): TablePlan | undefined {
    const base = this.#base?.of(table.name);
    const isSame = (action: ActionName) => base?.data(action) === this.#steps(table, action);
    return actionNamesOf(table).every(isSame) ? base : undefined;
  }
}

/** What must let a change through: the act as a whole, and each field that is given, by its index. */
export interface ChangeGates {
  readonly acts: readonly Gate[];
  readonly fields: readonly (readonly Gate[])[];
}

/** What one class of equal persons may do with one table. Each part is worked out when it is first asked for. */
export class TablePlan implements TableGates {
  readonly table: Table;
  /** The composite references. */
  readonly made: readonly Field[];
  readonly #plan: Plan;
  readonly #source: StepSource;
  readonly #data = new Map<ActionName, readonly StepData[]>();
  readonly #steps = new Map<StepData, Step>();
  readonly #fields = new Map<ActionName, FieldGates>();
  readonly #judging = new Map<ActionName, ChangeGates>();
  readonly #acts = new Map<ActionName, Gate>();
  readonly #yes = new Map<string, Yes>();
  readonly #answers = new Map<ActionName, Answers>();
  #knows: ((row: Row, reading: Reading) => boolean) | undefined;

  constructor(plan: Plan, source: StepSource, table: Table) {
    this.table = table;
    this.made = table.fields.filter((field) => field.by !== undefined);
    this.#plan = plan;
    this.#source = source;
  }

  /** What is left of the rules for an action: the same list each time. */
  data(action: ActionName): readonly StepData[] {
    const data = this.#data.get(action) ?? this.#source(this.table, action);
    this.#data.set(action, data);
    return data;
  }

  /** A step, ready to be asked. Of a grid with many ranges few are ever asked. */
  readonly #ready: ReadyStep = (data) => {
    const step = this.#steps.get(data) ?? compileStep(data, this.#judge);
    this.#steps.set(data, step);
    return step;
  };

  readonly #judge: Judge = (asked, table) => compileTruth(this.#plan.judged(table), asked);

  gate({ action, on }: GateNode): Gate {
    if (on === "act") return this.act(action);
    return this.fields(action).of(on);
  }

  yes(condition: Expression): Yes {
    const simple = simplify(condition);
    const key = keyOf(simple);
    const yes = this.#yes.get(key) ?? compileYes(simple);
    this.#yes.set(key, yes);
    return yes;
  }

  fields(action: ActionName): FieldGates {
    const known = this.#fields.get(action);
    if (known !== undefined) return known;
    const steps = countingFor(action).flatMap((one) => this.data(one));
    const made = new FieldGates(this.table, steps, this.#ready);
    this.#fields.set(action, made);
    return made;
  }

  /** The gates that a change of a known record must pass, or a new one. */
  judging(action: ActionName): ChangeGates {
    const made = this.#judging.get(action) ?? this.#changeGates(action);
    this.#judging.set(action, made);
    return made;
  }

  #changeGates(action: ActionName): ChangeGates {
    const gatesOn = (on: Field | "act") => {
      const tree = actionTree(this.table, action, on === "act" ? undefined : on);
      const judged = gatesIn(tree.kind === "known" ? tree.next : tree).filter((node) => node.on === on);
      return judged.map((node) => this.gate(node));
    };
    const isOfRecord = this.checkAction(action).target === "record";
    const acts = gatesOn("act");
    const fields = isOfRecord ? [] : this.table.fields.map(gatesOn);
    // What no gate judges would be let through.
    if ([...fields, ...(isOfRecord ? [acts] : [])].some((gates) => gates.length === 0)) {
      throw new TypeError(`nothing judges ${action} of "${this.table.name}"`);
    }
    return { acts, fields };
  }

  act(action: ActionName): Gate {
    const made = this.#acts.get(action) ?? actionGate(this.table, this.data(action), this.#ready);
    this.#acts.set(action, made);
    return made;
  }

  other(table: string): TablePlan {
    return this.#plan.of(table);
  }

  /** A record is known if it is listable or viewable; what is not known does not exist for the person. */
  get knows(): (row: Row, reading: Reading) => boolean {
    this.#knows ??= compilePermits(this, knownTree(this.table));
    return this.#knows;
  }

  /** What answers the questions of an action. */
  answers(action: ActionName): Answers {
    const answers = this.#answers.get(action) ?? new Answers(this, action);
    this.#answers.set(action, answers);
    return answers;
  }

  decision(action: ActionName, fieldName: string | undefined): Decide {
    return this.answers(action).decide(fieldName);
  }

  /** @throws PortierError for a word that is not an action of the table. */
  checkAction(name: unknown) {
    const action = typeof name === "string" ? actionOf(this.table, name) : undefined;
    if (action !== undefined) return action;
    const facts = { table: this.table.name, name: String(name), candidates: actionNamesOf(this.table) };
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
