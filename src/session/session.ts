import type { ShowAction } from "../rules/action-tree.js";
import { callMessages } from "../schema/call-messages.js";
import type { AnyDocument, DocumentTypes, FieldOf, TableOf, ValuesOf } from "../schema/document-types.js";
import { sayBy } from "../schema/problems.js";
import type { ChangeOptions, ChangeResult } from "./change-result.js";
import type { BatchResult } from "./check-batch.js";
import { checkAction, checkBulkEdit, checkCreate, checkDelete, checkEdit, checkImport } from "./check-change.js";
import { choices } from "./choices.js";
import type { Decision } from "./decision.js";
import { type Form, form } from "./form.js";
import { OpenSession } from "./open-session.js";
import { decide, may, question } from "./questions.js";
import type { Reach } from "./reach.js";
import { home, reach, screens } from "./reaches.js";
import type { ActionOf, Masked } from "./session-types.js";
import { mask, maskAll, sort } from "./shows.js";

/**
 * One person's view of the rules, for one request. Asking costs no walk over the rules: they were reduced, for all
 * persons who are equal to this one, to conditions on the record alone.
 *
 * Calls that name a table, field or action that is not there throw a {@link PortierError}; so do records that are no
 * objects. Everything that a person may or may not do is an answer, never an exception; a fault while deciding (a
 * source that fails or is missing) is a denial with reason `fault`, and is reported.
 *
 * Each method is a function of the same name in `portier/functions`, for bundles that carry no more than they use.
 */
export class Session<T extends DocumentTypes = AnyDocument> extends OpenSession<T> {
  static {
    sayBy(callMessages);
  }

  /**
   * The short answer of {@link decide}.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  may<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, record?: object, field?: FieldOf<T, K>): boolean {
    return may(this, action, table, record, field);
  }

  /**
   * {@link may} as a function of the record alone, for loops over many.
   *
   * @throws PortierError where `may` would: for a table, action or field that is not there.
   *
   * @example
   * const shown = objects.filter(session.question("view", "objects", "label"));
   */
  question<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, field?: FieldOf<T, K>): (record: object) => boolean {
    return question(this, action, table, field);
  }

  /**
   * May this person do it? Without a field, actions that speak of fields ask whether there is any field.
   * `edit` and `bulk` are asked without values, so the answer says whether it may be tried; {@link checkEdit} checks the
   * change. `create` and `import` are about a record that is not there yet: pass the record as it would be, or none to
   * ask whether it may be tried at all. Actions on a stored record, but for list, view and export, answer `not-found`
   * for one that the person does not know of.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  decide<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, record?: object, field?: FieldOf<T, K>): Decision {
    return decide(this, action, table, record, field);
  }

  /**
   * The record as the person sees it when it is opened (`view`), shown among others (`list`), or taken out as a file
   * (`export`): hidden fields are absent. Undefined when no field is seen: then the record does not exist for them.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  mask<K extends TableOf<T>>(table: K, record: object, action?: ShowAction): Masked<T, K> | undefined {
    return mask(this, table, record, action);
  }

  /**
   * The records that the person sees, each as {@link mask} shows it (for `list` unless told otherwise), in their order.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  maskAll<K extends TableOf<T>>(table: K, records: Iterable<object>, action?: ShowAction): Masked<T, K>[] {
    return maskAll(this, table, records, action);
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
    return sort(this, table, records, by);
  }

  /**
   * Checks a change of a stored record, without making it. Only the fields that change are checked, before and after.
   * Strict by default: one refused field refuses the whole change, and the result lists every refused one. Pass `undefined`
   * for a record that is not there: the result is the same as for one that the person may not know of.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for what no rule can be asked about.
   *
   * @example
   * session.checkEdit("objects", stored, { label: "A brass sextant" });
   * // { accepted: true, record: {...}, changes: { label: "A brass sextant" }, dropped: [] }
   */
  checkEdit<K extends TableOf<T>>(
    table: K,
    record: object | undefined,
    values: ValuesOf<T, K>,
    options?: ChangeOptions,
  ): ChangeResult {
    return checkEdit(this, table, record, values, options);
  }

  /**
   * Checks a new record: `record` of the result is what to store, with its defaults. Otherwise as {@link checkEdit}.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  checkCreate<K extends TableOf<T>>(table: K, values: ValuesOf<T, K>, options?: ChangeOptions): ChangeResult {
    return checkCreate(this, table, values, options);
  }

  /**
   * Checks whether a stored record may be deleted. Otherwise as {@link checkEdit}.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  checkDelete(table: TableOf<T>, record: object | undefined, options?: ChangeOptions): ChangeResult {
    return checkDelete(this, table, record, options);
  }

  /**
   * Checks a custom action on a stored record. Otherwise as {@link checkEdit}.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   *
   * @example
   * session.checkAction("approve", "loans", loan);
   */
  checkAction<K extends TableOf<T>>(
    action: T["tables"][K]["action"],
    table: K,
    record: object | undefined,
    options?: ChangeOptions,
  ): ChangeResult {
    return checkAction(this, action, table, record, options);
  }

  /**
   * Checks the same values for many stored records: each must be permitted as an edit and as a bulk edit.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  checkBulkEdit<K extends TableOf<T>>(
    table: K,
    records: readonly (object | undefined)[],
    values: ValuesOf<T, K>,
    options?: ChangeOptions,
  ): BatchResult {
    return checkBulkEdit(this, table, records, values, options);
  }

  /**
   * Checks new records from a file: each must be permitted to be created and to be imported.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  checkImport<K extends TableOf<T>>(table: K, lines: readonly ValuesOf<T, K>[], options?: ChangeOptions): BatchResult {
    return checkImport(this, table, lines, options);
  }

  /**
   * The values that the person may put into a field of a stored record (or of a new one): for a choice its values, for a
   * reference the keys of the records that they may list, as far as the change to each would be accepted. Undefined for
   * a field of another type. A reference needs a source with `all`.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  choices<K extends TableOf<T>>(
    table: K,
    field: FieldOf<T, K>,
    record?: object,
  ): readonly (string | number | boolean)[] | undefined {
    return choices(this, table, field, record);
  }

  /**
   * What a page needs to show and change a stored record, or without one to make a new one: for each field how it
   * stands, with note and choices, and which actions are there. Plain JSON; undefined for a record that the person does
   * not know of.
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  form(table: TableOf<T>, record?: object): Form | undefined {
    return form(this, table, record);
  }

  /**
   * On how many records of the table the person may do it, without looking at any: should the button be there at all?
   *
   * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there. Data never makes it throw.
   */
  reach<K extends TableOf<T>>(action: ActionOf<T, K>, table: K, field?: FieldOf<T, K>): Reach {
    return reach(this, action, table, field);
  }

  /**
   * The names of the screens that the person is shown, in declared order: those whose needs the rules permit on some
   * record. What is not here is not in the navigation, and not served.
   */
  screens(): readonly string[] {
    return screens(this);
  }

  /** The screen on which the person lands after signing in; undefined where they are shown none. */
  home(): string | undefined {
    return home(this);
  }
}
