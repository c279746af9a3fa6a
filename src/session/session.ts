import type { Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import type { Yes } from "../conditions/yes.js";
import type { ShowAction } from "../rules/action-tree.js";
import type { ActionName, BuiltInAction } from "../rules/actions.js";
import type { Need } from "../rules/screens.js";
import { PortierError, portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import type { AnyTables, FieldOf, TableOf, TableTypes } from "../schema/table-types.js";
import { type Acceptance, type ChangeOptions, checkOptions, faultyChange } from "./acceptance.js";
import type { Answers } from "./answers.js";
import type { ChangeContext } from "./change-context.js";
import { acceptAct, acceptCreate, acceptEdit } from "./changes.js";
import { choicesOf } from "./choices.js";
import { type Decision, faulted } from "./decision.js";
import { attemptNew, type Form, formOf, newForm } from "./form.js";
import type { Decide } from "./gate.js";
import { isRow } from "./given-values.js";
import { acceptBulk, acceptImport, type ManyAcceptance } from "./many.js";
import { type Mask, makeMask } from "./mask.js";
import { standardRecord } from "./new-record.js";
import type { Plan, TablePlan } from "./plan.js";
import type { Reach } from "./reach.js";
import { noScreens, type ShownScreens } from "./screens.js";
import type { SessionOrigin, SessionParts } from "./session-parts.js";
import type { MaskedRow } from "./shown-fields.js";
import { sortKeys, sortRecords } from "./sort.js";
import { reachOf } from "./table-reach.js";

/** A built-in action, or one that the table declares. */
export type ActionOf<T extends TableTypes, K extends TableOf<T>> = BuiltInAction | T[K]["action"];

/** A record of a declared table as a person sees it: what is hidden is not there. */
export type Masked<T extends TableTypes, K extends TableOf<T>> = Partial<T[K]["row"]>;

/** Inside the package only. */
export let partsOf: (session: Pick<Session, "roles">) => SessionParts;

/** What a session was opened from, and how it reads; for explanations and snapshots. */
export function insidesOf(
  session: Pick<Session, "roles">,
): SessionOrigin & { readonly reading: Reading; readonly plan: Plan } {
  const parts = partsOf(session);
  if (parts.origin === undefined)
    throw new TypeError("this session was made from a snapshot, which keeps no rules to look at");
  const { reading } = parts;
  return {
    ...parts.origin,
    reading,
    // Made where it is asked for.
    get plan() {
      return parts.plan();
    },
  };
}

/** The last question of a kind, with what answers it: most are asked of one record or field after the other. */
interface Asked<A> {
  action: ActionName;
  table: string;
  field: string | symbol | undefined;
  answers: Answers | undefined;
  answer: A;
}

/**
 * One person's view of the rules, for one request. Asking costs no walk over the rules: they were reduced, for all
 * persons who are equal to this one, to conditions on the record alone.
 *
 * Calls that name a table, field or action that is not there throw a {@link PortierError}; so do records that are no
 * objects. Everything that a person may or may not do is an answer, never an exception; a fault while deciding (a
 * source that fails or is missing) is a denial with reason `fault`, and is reported.
 */
export class Session<T extends TableTypes = AnyTables> {
  readonly #parts: SessionParts;
  readonly #reading: Reading;
  #context: ChangeContext | undefined;
  #masks: Map<string, Mask> | undefined;
  readonly #lastYes: Asked<Yes> = nothingAsked(() => false);
  readonly #lastDecision: Asked<Decide> = nothingAsked(() => faulted);

  static {
    partsOf = (session) => (session as Session).#parts;
  }

  /** Made by `Portier.session` or from a snapshot, not by applications. */
  constructor(parts: SessionParts) {
    this.#parts = parts;
    this.#reading = parts.reading;
  }

  get #changing(): ChangeContext {
    if (this.#context !== undefined) return this.#context;
    const { people, shared: plan, key, reading } = this.#parts;
    const anew: Reading = { ...reading, decided: undefined };
    const later: Reading = { ...anew, badData: () => {} };
    this.#context = { people, plan, key, reading: anew, later, roles: this.#parts.guard() };
    return this.#context;
  }

  /** The roles that the person holds, includes among them, in alphabetical order; scoped ones as `editor of e-2`. */
  get roles(): readonly string[] {
    return this.#parts.roles();
  }

  /** The key of who asks, as text; undefined for a visitor, or for somebody made up. */
  get person(): string | undefined {
    const { key } = this.#parts;
    return key === null || key === undefined ? undefined : String(key);
  }

  /** The key of who acts for that person; undefined where they act themselves. */
  get actedBy(): string | undefined {
    return this.#parts.actedBy;
  }

  /** The short answer of {@link decide}. */
  may<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, record?: Row, field?: FieldOf<T, K>): boolean {
    const last = this.#lastYes;
    if (last.field !== field || last.table !== table || last.action !== action) {
      last.answer = this.#answersTo(last, action, table).permits(field);
      last.field = field;
    }
    if (!isRow(record)) return this.#withoutRecord(action, table, record, field).permitted;
    try {
      return last.answer(record, this.#reading);
    } catch (error) {
      this.#reportFault(error);
      return false;
    }
  }

  /**
   * {@link may} as a function of the record alone, for loops over many.
   *
   * @throws PortierError where `may` would: for a table, action or field that is not there.
   *
   * @example
   * const shown = objects.filter(session.question("view", "objects", "label"));
   */
  question<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, field?: FieldOf<T, K>): (record: Row) => boolean {
    const permits = this.#parts.shared.of(table).answers(action).permits(field);
    const reading = this.#reading;
    return (record) => {
      if (!isRow(record)) throw wrongRecord(action, record);
      try {
        return permits(record, reading);
      } catch (error) {
        this.#reportFault(error);
        return false;
      }
    };
  }

  /**
   * May this person do it? Without a field, actions that speak of fields ask whether there is any field.
   * `edit` and `bulk` are asked without values, so the answer says whether it may be tried; {@link accept} judges the
   * change. `create` and `import` are about a record that is not there yet: pass the record as it would be, or none to
   * ask whether it may be tried at all. Actions on a stored record, but for list, view and export, answer `not-found`
   * for one that the person does not know of.
   */
  decide<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, record?: Row, field?: FieldOf<T, K>): Decision {
    const last = this.#lastDecision;
    if (last.field !== field || last.table !== table || last.action !== action) {
      last.answer = this.#answersTo(last, action, table).decide(field);
      last.field = field;
    }
    if (!isRow(record)) return this.#withoutRecord(action, table, record, field);
    try {
      return last.answer(record, this.#reading);
    } catch (error) {
      this.#reportFault(error);
      return faulted;
    }
  }

  #answersTo(last: Asked<unknown>, action: ActionName, table: string): Answers {
    if (last.answers !== undefined && last.table === table && last.action === action) return last.answers;
    // Of a field that is not there, nothing is to be remembered: neither of the question before.
    last.field = noField;
    last.answers = this.#parts.shared.of(table).answers(action);
    last.action = action;
    last.table = table;
    return last.answers;
  }

  #withoutRecord(action: ActionName, table: string, record: unknown, field: string | undefined): Decision {
    if ((action !== "create" && action !== "import") || record !== undefined) throw wrongRecord(action, record);
    const plan = this.#parts.decided().of(table);
    const asked = field === undefined ? undefined : plan.field(field);
    const act = action === "import" ? "import" : "create";
    return this.#guard(() => attemptNew(plan, act, asked), faulted);
  }

  /**
   * The record as the person sees it when it is opened (`view`), shown among others (`list`), or taken out as a file
   * (`export`): hidden fields are absent. Undefined when no field is seen: then the record does not exist for them.
   */
  mask<K extends TableOf<T>>(table: K, record: Row, action: ShowAction = "view"): Masked<T, K> | undefined {
    const mask = this.#maskOf(table, action);
    if (!isRow(record)) throw wrongRecord(action, record);
    return this.#masked(mask, record) as Masked<T, K> | undefined;
  }

  /** The records that the person sees, each as {@link mask} shows it (for `list` unless told otherwise), in their order. */
  maskAll<K extends TableOf<T>>(table: K, records: Iterable<Row>, action: ShowAction = "list"): Masked<T, K>[] {
    const mask = this.#maskOf(table, action);
    const masked: Masked<T, K>[] = [];
    for (const record of records) {
      if (!isRow(record)) throw wrongRecord(action, record);
      const seen = this.#masked(mask, record);
      if (seen !== undefined) masked.push(seen as Masked<T, K>);
    }
    return masked;
  }

  #masked(mask: Mask, record: Row): MaskedRow | undefined {
    try {
      return mask(record, this.#reading);
    } catch (error) {
      this.#reportFault(error);
      return undefined;
    }
  }

  /**
   * Records as they are shown, sorted by what is shown of them: by the fields that are named, each with `-` in front where
   * the greatest comes first, then by the key. Text goes by code point; what is hidden or null comes last. Lists from a
   * database are sorted alike.
   *
   * @throws PortierError for a field that is not there, and for a list or json value, which have no order.
   *
   * @example
   * session.sort("objects", session.maskAll("objects", objects), ["-insured_value", "title"]);
   */
  sort<K extends TableOf<T>>(table: K, records: Iterable<Masked<T, K>>, by: readonly string[]): Masked<T, K>[] {
    return sortRecords(records as Iterable<Masked<T, K> & Row>, sortKeys(this.#parts.shared.of(table).table, by));
  }

  /**
   * Judges a change: `edit` with the stored record and the new values, `create` with the values, any other action on a
   * record with the stored record. Only changed fields are judged, before and after. Strict unless told otherwise: one
   * refused field refuses the whole change, and the answer lists every refused one. Pass `undefined` for a record that
   * is not there: the answer is the same as for one that the person may not know of.
   *
   * ```ts
   * session.accept("edit", "objects", stored, { label: "A brass sextant" });
   * // { accepted: true, record: {...}, changes: { label: "A brass sextant" }, dropped: [] }
   * ```
   */
  accept(action: "edit", table: TableOf<T>, record: Row | undefined, values: Row, options?: ChangeOptions): Acceptance;
  accept(action: "create", table: TableOf<T>, values: Row, options?: ChangeOptions): Acceptance;
  accept<K extends TableOf<T>>(
    action: "delete" | T[K]["action"],
    table: K,
    record: Row | undefined,
    options?: ChangeOptions,
  ): Acceptance;
  accept(
    action: ActionName,
    table: string,
    record: Row | undefined,
    valuesOrOptions?: Row | ChangeOptions,
    options?: ChangeOptions,
  ): Acceptance {
    const plan = this.#parts.shared.of(table);
    const { speaksOf } = plan.checkAction(action);
    if (record !== undefined && !isRow(record)) throw wrongRecord(action, record);
    if (action === "create") {
      const checked = checkOptions(valuesOrOptions);
      if (record === undefined) throw wrongRecord(action, record);
      return this.#guard(() => acceptCreate(this.#changing, plan, record, checked), faultyChange);
    }
    if (action === "edit") {
      const checked = checkOptions(options);
      if (!isRow(valuesOrOptions)) throw wrongRecord("edit", valuesOrOptions);
      return this.#guard(() => acceptEdit(this.#changing, plan, record, valuesOrOptions, checked), faultyChange);
    }
    if (speaksOf !== "record") {
      const hint = "use edit, create, delete or a custom action; for many records acceptBulk and acceptImport";
      throw portierError("wrong-call", { what: `${String(action)} changes no single record`, hint });
    }
    const checked = checkOptions(valuesOrOptions);
    return this.#guard(() => acceptAct(this.#changing, plan, action, record, checked), faultyChange);
  }

  /** Judges the same values for many stored records: each must be permitted as an edit and as a bulk change. */
  acceptBulk(
    table: TableOf<T>,
    records: readonly (Row | undefined)[],
    values: Row,
    options?: ChangeOptions,
  ): ManyAcceptance {
    const plan = this.#parts.shared.of(table);
    const checked = checkOptions(options);
    for (const record of records) if (record !== undefined && !isRow(record)) throw wrongRecord("bulk", record);
    if (!isRow(values)) throw wrongRecord("bulk", values);
    const fault: ManyAcceptance = { accepted: false, results: records.map(() => faultyChange) };
    return this.#guard(() => acceptBulk(this.#changing, plan, records, values, checked), fault);
  }

  /** Judges new records from a file: each must be permitted as created and as imported. */
  acceptImport(table: TableOf<T>, lines: readonly Row[], options?: ChangeOptions): ManyAcceptance {
    const plan = this.#parts.shared.of(table);
    const checked = checkOptions(options);
    for (const line of lines) if (!isRow(line)) throw wrongRecord("import", line);
    const fault: ManyAcceptance = { accepted: false, results: lines.map(() => faultyChange) };
    return this.#guard(() => acceptImport(this.#changing, plan, lines, checked), fault);
  }

  /**
   * The values that the person may put into a field of a stored record (or of a new one): for a choice its values, for a
   * reference the keys of the records that they may list, as far as the change to each would be accepted. Undefined for
   * a field of another type. A reference needs a source with `all`.
   */
  choices<K extends TableOf<T>>(
    table: K,
    field: FieldOf<T, K>,
    record?: Row,
  ): readonly (string | number | boolean)[] | undefined {
    const plan = this.#parts.shared.of(table);
    const asked = plan.field(field);
    if (record !== undefined && !isRow(record)) throw wrongRecord("choices", record);
    return this.#guard(() => choicesOf(this.#changing, plan, asked, record), []);
  }

  /**
   * What a page needs to show and change a stored record, or without one to make a new one: for each field how it
   * stands, with note and choices, and which actions are there. Plain JSON; undefined for a record that the person does
   * not know of.
   */
  form(table: TableOf<T>, record?: Row): Form | undefined {
    const plan = this.#parts.shared.of(table);
    if (record === undefined) {
      const attempt = (field?: Field) =>
        this.#guard(() => attemptNew(this.#parts.decided().of(table), "create", field), faulted);
      const standard = standardRecord(this.#changing, plan.table);
      return newForm(plan.table, standard, attempt, (asked) => this.#choicesIn(plan, asked, undefined));
    }
    if (!isRow(record)) throw wrongRecord("form", record);
    const seen = { ...this.mask(table, record, "list"), ...this.mask(table, record, "view") };
    const known = this.#guard(() => plan.knows(record, this.#reading), false);
    if (!known) return undefined;
    const decide = (action: ActionName, asked: Field | undefined) =>
      this.#guard(() => plan.decision(action, asked?.name)(record, this.#reading), faulted);
    return formOf(plan, seen, decide, (asked) => this.#choicesIn(plan, asked, record));
  }

  /** The choices as a form has them: where there is no source at all, a list of records is for the server to give. */
  #choicesIn(
    plan: TablePlan,
    field: Field,
    record: Row | undefined,
  ): readonly (string | number | boolean)[] | undefined {
    const leads = (field.type.target ?? field.type.element?.target) !== undefined;
    if (leads && this.#reading.source === undefined) return undefined;
    return this.#guard(() => choicesOf(this.#changing, plan, field, record), undefined);
  }

  /** On how many records of the table the person may do it, without looking at any: should the button be there at all? */
  reach<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, field?: FieldOf<T, K>): Reach {
    const plan = this.#parts.shared.of(table);
    const { speaksOf } = plan.checkAction(action);
    const asked = field === undefined ? undefined : plan.field(field);
    if (asked !== undefined && speaksOf === "record") return this.#fieldOfRecordAction(plan, action, asked.name);
    return this.#guard(() => reachOf(this.#parts.decided().of(table), action, asked), "none");
  }

  /**
   * The names of the screens that the person is shown, in declared order: those whose needs the rules permit on some
   * record. What is not here is not in the navigation, and not served.
   */
  screens(): readonly string[] {
    return this.#shown().screens;
  }

  /** The screen on which the person lands after signing in; undefined where they are shown none. */
  home(): string | undefined {
    return this.#shown().home;
  }

  #shown(): ShownScreens {
    const reach = ({ action, table, field }: Need) =>
      this.reach(action, table.name as TableOf<T>, field?.name as never);
    return this.#guard(() => this.#parts.screens(reach), noScreens);
  }

  #fieldOfRecordAction(plan: TablePlan, action: ActionName, field: string): never {
    const what = `${String(action)} of "${plan.table.name}" speaks of a record, not of "${field}"`;
    throw portierError("wrong-call", { what, hint: "leave the field out" });
  }

  #maskOf(table: string, action: ShowAction): Mask {
    const id = `${action} ${table}`;
    const known = this.#masks?.get(id);
    if (known !== undefined) return known;
    const plan = this.#parts.shared.of(table);
    plan.checkAction(action);
    if (action !== "view" && action !== "list" && action !== "export") {
      const what = `a record is masked for list, view or export, not for ${String(action satisfies never)}`;
      throw portierError("wrong-call", { what, hint: "use list, view or export" });
    }
    const mask = this.#guard(
      () => makeMask(plan, action, (error) => this.#reportFault(error)),
      () => undefined,
    );
    this.#masks ??= new Map();
    this.#masks.set(id, mask);
    return mask;
  }

  /** Deciding fails closed: whatever goes wrong inside is reported and answered by a denial. */
  #guard<T>(decide: () => T, denial: T): T {
    try {
      return decide();
    } catch (error) {
      this.#reportFault(error);
      return denial;
    }
  }

  #reportFault(error: unknown): void {
    const message = error instanceof PortierError ? error.message : `a source failed: ${String(error)}`;
    this.#parts.report({ kind: "fault", message, error });
  }
}

function wrongRecord(action: string, record: unknown): PortierError {
  const what = `${action} needs a record as an object, not ${record === undefined ? "nothing" : typeof record}`;
  return portierError("wrong-call", { what, hint: "to ask without a record, use reach" });
}

/** Neither a field nor the record as a whole. */
const noField = Symbol("no field");

function nothingAsked<A>(answer: A): Asked<A> {
  return { action: "view", table: "", field: noField, answers: undefined, answer };
}
