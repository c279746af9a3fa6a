import type { ShowAction } from "../rules/action-tree.js";
import { actionOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import type { AnyDocument, DocumentTypes, FieldOf, TableOf, ValuesOf } from "../schema/document-types.js";
import type { Table } from "../schema/schema.js";
import type { ChangeOptions, ChangeResult, Refusal } from "../session/change-result.js";
import type { BatchResult } from "../session/check-batch.js";
import type { Decision } from "../session/decision.js";
import { internals } from "../session/internals.js";
import type { Noted, Observed } from "../session/observation.js";
import { observedParts } from "../session/observed-plan.js";
import { isRow } from "../session/row.js";
import { Session } from "../session/session.js";
import type { ActionOf, Masked } from "../session/session-types.js";
import { mask } from "../session/shows.js";
import { isOwner } from "./is-owner.js";

/**
 * A session in which nothing of the observed tables is refused or hidden, and in which it is noted what would have been. All
 * other tables, and changes of who holds a role, are judged as ever.
 */
export class ObservedSession<T extends DocumentTypes = AnyDocument> extends Session<T> {
  /** The session as it will be when the rules of all tables are enforced; tables are named by texts here. */
  readonly #enforced: Session;
  readonly #note: (noted: readonly Noted[]) => void;

  constructor(enforced: Session<T>, note: (noted: readonly Noted[]) => void) {
    const { parts, ruleset } = internals(enforced);
    const open = observedParts(parts, ruleset.schema);
    super(open);
    open.stated = (table, action) => this.#stated(table, action);
    this.#enforced = enforced as unknown as Session;
    this.#note = note;
  }

  get observed(): Observed {
    return { person: this.person ?? null, actedBy: this.actedBy ?? null, roles: this.roles };
  }

  override may<K extends TableOf<T>>(
    action: ActionOf<T, K>,
    table: K,
    record?: object,
    field?: FieldOf<T, K>,
  ): boolean {
    const isPermitted = super.may(action, table, record, field);
    if (isPermitted && this.#isObserved(table)) this.#decided(action, table, record, field);
    return isPermitted;
  }

  override decide<K extends TableOf<T>>(
    action: ActionOf<T, K>,
    table: K,
    record?: object,
    field?: FieldOf<T, K>,
  ): Decision {
    const decision = super.decide(action, table, record, field);
    if (decision.permitted && this.#isObserved(table)) this.#decided(action, table, record, field);
    return decision;
  }

  override mask<K extends TableOf<T>>(table: K, record: object, action: ShowAction = "view"): Masked<T, K> | undefined {
    const seen = super.mask(table, record, action);
    this.noteShown(table, [record], action);
    return seen;
  }

  override maskAll<K extends TableOf<T>>(
    table: K,
    records: Iterable<object>,
    action: ShowAction = "list",
  ): Masked<T, K>[] {
    const all = [...records];
    const seen = super.maskAll(table, all, action);
    this.noteShown(table, all, action);
    return seen;
  }

  override checkCreate<K extends TableOf<T>>(table: K, values: ValuesOf<T, K>, options?: ChangeOptions): ChangeResult {
    const outcome = super.checkCreate(table, values, options);
    this.#checked("create", table, undefined, values, outcome, (one) => one.checkCreate(table, values, options));
    return outcome;
  }

  override checkEdit<K extends TableOf<T>>(
    table: K,
    record: object | undefined,
    values: ValuesOf<T, K>,
    options?: ChangeOptions,
  ): ChangeResult {
    const outcome = super.checkEdit(table, record, values, options);
    this.#checked("edit", table, record, values, outcome, (one) => one.checkEdit(table, record, values, options));
    return outcome;
  }

  override checkDelete(table: TableOf<T>, record: object | undefined, options?: ChangeOptions): ChangeResult {
    const outcome = super.checkDelete(table, record, options);
    this.#checked("delete", table, record, {}, outcome, (one) => one.checkDelete(table, record, options));
    return outcome;
  }

  override checkAction<K extends TableOf<T>>(
    action: T["tables"][K]["action"],
    table: K,
    record: object | undefined,
    options?: ChangeOptions,
  ): ChangeResult {
    const outcome = super.checkAction(action, table, record, options);
    this.#checked(action, table, record, {}, outcome, (one) => one.checkAction(action, table, record, options));
    return outcome;
  }

  override checkBulkEdit<K extends TableOf<T>>(
    table: K,
    records: readonly (object | undefined)[],
    values: ValuesOf<T, K>,
    options?: ChangeOptions,
  ): BatchResult {
    const outcome = super.checkBulkEdit(table, records, values, options);
    if (outcome.accepted && this.#isObserved(table)) {
      const { results } = this.#enforced.checkBulkEdit(table, records, values, options);
      for (const [index, one] of results.entries()) this.#judged("bulk", table, records[index], values, one);
    }
    return outcome;
  }

  override checkImport<K extends TableOf<T>>(
    table: K,
    lines: readonly ValuesOf<T, K>[],
    options?: ChangeOptions,
  ): BatchResult {
    const outcome = super.checkImport(table, lines, options);
    if (outcome.accepted && this.#isObserved(table)) {
      const { results } = this.#enforced.checkImport(table, lines, options);
      for (const [index, one] of results.entries()) this.#judged("import", table, undefined, lines[index] ?? {}, one);
    }
    return outcome;
  }

  /** Notes what the rules would have refused of a change that was accepted. */
  #checked(
    action: string,
    table: string,
    record: object | undefined,
    values: object,
    outcome: ChangeResult,
    enforced: (session: Session) => ChangeResult,
  ): void {
    if (!outcome.accepted || !this.#isObserved(table)) return;
    this.#judged(action, table, record, values, enforced(this.#enforced));
  }

  /** Notes what of some records, which were shown, would have been hidden; nothing of a table that is not observed. */
  noteShown(name: string, records: readonly object[], action: ShowAction): void {
    const table = this.#table(name);
    if (table?.observe !== true) return;
    const enforced = this.#enforced;
    const noted: Noted[] = [];
    for (const record of records) {
      const [shown, seen] = [mask<T>(this, name, record, action), enforced.mask(name, record, action)];
      for (const field of Object.keys(shown ?? {})) {
        if (seen !== undefined && Object.hasOwn(seen, field)) continue;
        const { permitted, reason, rule } = enforced.decide(action, name, record, field);
        // A value that does not fit its type is shown to nobody.
        if (permitted || reason === "permitted") continue;
        noted.push({ ...this.#about(table, record), action, field, reason, rule });
      }
    }
    this.#note(noted);
  }

  /** Of a statement that the application sends itself nobody sees the records: what it may hide of some is noted. */
  #stated(name: string, action: string): void {
    const table = this.#table(name);
    if (table?.observe !== true) return;
    const enforced = this.#enforced;
    const isOfFields = actionOf(table, action)?.target === "fields";
    const asked = isOfFields ? table.fields.map((field) => field.name) : [undefined];
    const record = {};
    const noted = { table: name, action, own: false, reason: "hidden", rule: undefined, key: undefined } as const;
    const hidden = asked.filter((field) => enforced.reach(action, name, field) !== "all");
    this.#note(hidden.map((field) => ({ ...noted, field, record, records: 0 })));
  }

  #decided(action: string, name: string, record: object | undefined, field: string | undefined): void {
    const table = this.#table(name);
    const { permitted, reason, rule } = this.#enforced.decide(action, name, record, field);
    if (table === undefined || permitted || reason === "permitted") return;
    this.#note([{ ...this.#about(table, record), action, field, reason, rule }]);
  }

  #judged(action: string, name: string, record: object | undefined, values: object, outcome: ChangeResult): void {
    const table = this.#table(name);
    if (table === undefined) return;
    const about = this.#about(table, record ?? values);
    // A new record has no key that anybody could look up.
    this.#note(judgedAs({ ...about, action, key: record === undefined ? undefined : about.key }, values, outcome));
  }

  #isObserved(name: string): boolean {
    return this.#table(name)?.observe === true;
  }

  #table(name: string): Table | undefined {
    return internals(this).ruleset.schema.tables.get(name);
  }

  #about(table: Table, record: object | undefined): About {
    if (!isRow(record)) return { table: table.name, record: {}, key: undefined, own: false };
    return {
      table: table.name,
      record,
      key: recordAddress(table, record),
      own: isOwner(this.#enforced, table, record),
    };
  }
}

type About = Pick<Noted, "table" | "record" | "key" | "own">;

/** What a change would have come to, refusal by refusal. */
function judgedAs(about: Omit<Noted, "field" | "reason" | "rule">, values: object, outcome: ChangeResult): Noted[] {
  if (outcome.accepted) return outcome.dropped.map((one) => refusedAs(about, one));
  switch (outcome.reason) {
    case "refused":
      return outcome.refusals.map((one) => refusedAs(about, one));
    case "unconfirmed":
      return (outcome.confirm ?? []).map(({ rule }) => ({ ...about, field: undefined, reason: "unconfirmed", rule }));
    case "not-found":
    case "fault": {
      const { reason } = outcome;
      const isOfFields = about.action === "edit" || about.action === "bulk";
      const fields = isOfFields ? Object.keys(values) : [undefined];
      return fields.map((field) => ({ ...about, field, reason, rule: undefined }));
    }
    case "invalid":
      return [];
    default:
      return outcome.reason satisfies never;
  }
}

/** A reference to what the person does not know of is as one to what is not there. */
function refusedAs(about: Omit<Noted, "field" | "reason" | "rule">, { field, reason, rule }: Refusal): Noted {
  const why = reason === "denied" || reason === "reserved" || reason === "not-permitted" || reason === "fault";
  return { ...about, field, reason: why ? reason : "not-found", rule };
}
