import type { Reading } from "../conditions/evaluate.js";
import type { Row, Source } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import type { Ruleset } from "../rules/compile-rules.js";
import { PortierError, portierError } from "../schema/problems.js";
import type { Field } from "../schema/schema.js";
import { type Acceptance, acceptCreate, acceptDelete, acceptEdit, type ChangeContext, isRow } from "./changes.js";
import { type Decide, type Decision, type Gate, notPermitted } from "./gate.js";
import { type Mask, type MaskedRow, makeMask } from "./mask.js";
import type { Plan, TablePlan } from "./plan.js";
import { gateReach, isCertain, type Reach, reachOf } from "./reach.js";
import type { Subject } from "./subject.js";

/** Something that the application's operators should hear of. The decision itself has already failed closed. */
export interface Finding {
  /** `fault`: deciding failed, so it was denied. `bad-data`: a stored value does not fit its type, so it is hidden. */
  readonly kind: "fault" | "bad-data";
  readonly message: string;
  readonly table?: string;
  readonly field?: string;
  readonly error?: unknown;
}

export interface SessionOptions {
  /**
   * Who asks: the key of a record in the people table (needs `source`), or that record itself. None is an anonymous
   * visitor. A key that is not there, or a person who is not active, opens a session in which nothing is permitted.
   */
  readonly person?: Row | string | number | null;
  /** The values that the document declares under `request`; `now` (ISO 8601 with zone) defaults to this moment. */
  readonly request?: Readonly<Record<string, unknown>>;
  /** Where conditions read other records. */
  readonly source?: Source;
  /** Told of faults and of bad data. Default: nobody. */
  readonly report?: (finding: Finding) => void;
}

/** A question as it is asked of one record after the other, and what decides it. */
interface Asked {
  readonly action: ActionName;
  readonly table: string;
  readonly field: string | undefined;
  readonly decide: Decide;
}

const faulted: Decision = Object.freeze({ permitted: false, reason: "fault" });

/**
 * One person's view of the rules, for one request. Asking costs no walk over the rules: they were reduced, for all
 * persons who are equal to this one, to conditions on the record alone.
 *
 * Calls that name a table, field or action that is not there throw a {@link PortierError}; so do records that are no
 * objects. Everything that a person may or may not do is an answer, never an exception; a fault while deciding (a
 * source that fails or is missing) is a denial with reason `fault`, and is reported.
 */
export class Session {
  readonly #ruleset: Ruleset;
  readonly #subject: Subject;
  readonly #plan: Plan;
  readonly #reading: Reading;
  readonly #report: (finding: Finding) => void;
  readonly #masks = new Map<string, Mask>();
  #last: Asked = { action: "view", table: "", field: undefined, decide: () => notPermitted };

  /** Made by `Portier.session`, not by applications. */
  constructor(ruleset: Ruleset, subject: Subject, plan: Plan, reading: Reading, report: (finding: Finding) => void) {
    this.#ruleset = ruleset;
    this.#subject = subject;
    this.#plan = plan;
    this.#reading = reading;
    this.#report = report;
  }

  /** The roles that the person holds, includes among them, in alphabetical order. */
  get roles(): readonly string[] {
    return [...this.#subject.roles].sort();
  }

  /** The short answer of {@link decide}. */
  may(action: ActionName, table: string, record?: Row, field?: string): boolean {
    return this.decide(action, table, record, field).permitted;
  }

  /**
   * May this person do it? Without a field, `list`, `view` and `edit` ask whether there is any field.
   * `edit` is asked without values, so the answer says whether it may be tried; {@link accept} judges the change.
   * `create` is about a record that is not there yet: pass the record as it would be, or none to ask whether it may be
   * tried at all. `edit` and `delete` answer `not-found` for a record that the person does not know.
   */
  decide(action: ActionName, table: string, record?: Row, field?: string): Decision {
    const last = this.#last;
    const isSame = last.table === table && last.action === action && last.field === field;
    const { decide } = isSame ? last : this.#look(action, table, field);
    if (!isRow(record)) return this.#withoutRecord(action, table, record, field);
    try {
      return decide(record, this.#reading);
    } catch (error) {
      this.#reportFault(error);
      return faulted;
    }
  }

  /** Finds what decides the question, and keeps it: most questions are asked of one record after the other. */
  #look(action: ActionName, table: string, field: string | undefined): Asked {
    const decide = this.#plan.of(table).decision(action, field);
    this.#last = { action, table, field, decide };
    return this.#last;
  }

  #withoutRecord(action: ActionName, table: string, record: unknown, field: string | undefined): Decision {
    if (action !== "create" || record !== undefined) throw wrongRecord(action, record);
    const plan = this.#plan.of(table);
    const asked = field === undefined ? undefined : plan.field(field);
    return this.#guard(() => attemptCreate(plan, asked), faulted);
  }

  /**
   * The record as the person sees it when it is opened (`view`) or shown among others (`list`): hidden fields are
   * absent. Undefined when no field is seen: then the record does not exist for them.
   */
  mask(table: string, record: Row, action: "view" | "list" = "view"): MaskedRow | undefined {
    const mask = this.#maskOf(table, action);
    if (!isRow(record)) throw wrongRecord(action, record);
    return this.#guard(() => mask(record, this.#reading), undefined);
  }

  /** The records that the person sees, each as {@link mask} shows it (for `list` unless told otherwise), in their order. */
  maskAll(table: string, records: Iterable<Row>, action: "view" | "list" = "list"): MaskedRow[] {
    const mask = this.#maskOf(table, action);
    const masked: MaskedRow[] = [];
    for (const record of records) {
      if (!isRow(record)) throw wrongRecord(action, record);
      const seen = this.#guard(() => mask(record, this.#reading), undefined);
      if (seen !== undefined) masked.push(seen);
    }
    return masked;
  }

  /**
   * Judges a change: `edit` with the stored record and the new values, `create` with the values, `delete` with the
   * stored record. Strict: one refused field refuses the whole change, and the answer lists every refused one. Only
   * changed fields are judged. Pass `undefined` for a record that is not there: the answer is the same as for one that
   * the person may not know of.
   *
   * ```ts
   * session.accept("edit", "objects", stored, { label: "A brass sextant" });
   * // { accepted: true, record: {...}, changes: { label: "A brass sextant" } }
   * ```
   */
  accept(action: "edit", table: string, record: Row | undefined, values: Row): Acceptance;
  accept(action: "create", table: string, values: Row): Acceptance;
  accept(action: "delete", table: string, record: Row | undefined): Acceptance;
  accept(action: "edit" | "create" | "delete", table: string, record: Row | undefined, values?: Row): Acceptance {
    const plan = this.#plan.of(table);
    if (record !== undefined && !isRow(record)) throw wrongRecord(action, record);
    const { schema } = this.#ruleset;
    const context: ChangeContext = { schema, plan: this.#plan, key: this.#subject.key, reading: this.#reading };
    const fault: Acceptance = { accepted: false, reason: "fault", refusals: [] };
    switch (action) {
      case "create":
        if (!isRow(record)) throw wrongRecord(action, record);
        return this.#guard(() => acceptCreate(context, plan, record), fault);
      case "edit":
        if (!isRow(values)) throw wrongRecord("edit", values);
        return this.#guard(() => acceptEdit(context, plan, record, values), fault);
      case "delete":
        return this.#guard(() => acceptDelete(context, plan, record), fault);
      default: {
        const what = `a change is an edit, create or delete, not ${String(action satisfies never)}`;
        throw portierError("wrong-call", { what, hint: "use edit, create or delete" });
      }
    }
  }

  /** On how many records of the table the person may do it, without looking at any: should the button be there at all? */
  reach(action: ActionName, table: string, field?: string): Reach {
    const plan = this.#plan.of(table);
    plan.checkAction(action);
    const asked = field === undefined ? undefined : plan.field(field);
    return this.#guard(() => reachOf(plan, action, asked), "none");
  }

  #maskOf(table: string, action: "view" | "list"): Mask {
    const id = `${action} ${table}`;
    const known = this.#masks.get(id);
    if (known !== undefined) return known;
    const plan = this.#plan.of(table);
    plan.checkAction(action);
    if (action !== "view" && action !== "list") {
      const what = `a record is masked for list or view, not for ${String(action satisfies never)}`;
      throw portierError("wrong-call", { what, hint: "use list or view" });
    }
    const mask = this.#guard(
      () => makeMask(plan.table, plan[action]),
      () => undefined,
    );
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
    this.#report({ kind: "fault", message, error });
  }
}

/** Whether a record may be made at all, before any value is known. */
function attemptCreate(plan: TablePlan, field: Field | undefined): Decision {
  const act = plan.create.act;
  const gate = field === undefined || gateReach(act) === "none" ? act : (plan.create.gates[field.index] as Gate);
  const reach = reachOf(plan, "create", field);
  const [permit] = gate.permits;
  if (reach === "none" || permit === undefined) return gate.blocks.find(isCertain)?.decision ?? notPermitted;
  return reach === "all" ? permit.decision : permit.tentativeDecision;
}

function wrongRecord(action: string, record: unknown): PortierError {
  const what = `${action} needs a record as an object, not ${record === undefined ? "nothing" : typeof record}`;
  return portierError("wrong-call", { what, hint: "to ask without a record, use reach" });
}
