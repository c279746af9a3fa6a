import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import type { Field } from "../schema/schema.js";
import type { Confirmation, Decision, Reason } from "./decision.js";
import type { UserMessages } from "./user-messages.js";

/** Why one field, or the whole change, was not accepted. */
export interface Refusal {
  /** Absent for the act as a whole: creating, deleting, a custom action. */
  readonly field?: string;
  /** Why the field, or without `field` the whole record, is refused. */
  readonly reason:
    | Exclude<Reason, "permitted">
    | "no-such-field"
    | "no-such-record"
    | "role-change"
    | "invalid"
    | "key-taken";
  /** For developers and logs: the address of the rule that refused. */
  readonly rule?: string;
  /** For developers and logs, of a change of who holds a role: what stands against it, such as `last-holders`. */
  readonly cause?: string;
  /** For the person: the rule's note, or a neutral sentence. Never names a hidden value. */
  readonly message: string;
}

/** What became of a proposed change. Nothing is applied here: what is refused leaves the stored values as they are. */
export type ChangeResult = AcceptedChange | RejectedChange;

/** A change that is accepted: what to store. */
export interface AcceptedChange {
  readonly accepted: true;
  /** The whole record after the change, or after creation with its defaults; undefined after delete. */
  readonly record: Row | undefined;
  /** The fields that change, with their new values; empty when nothing does. */
  readonly changes: Row;
  /** Lenient only: what was refused and left out. */
  readonly dropped: readonly Refusal[];
}

/** A change that is not accepted, and why. */
export interface RejectedChange {
  readonly accepted: false;
  /**
   * `not-found`: for this person there is no such record. `refused`: at least one field or the act may not be. `invalid`:
   * it may be, but a value is not right. `unconfirmed`: it may be, once what is in `confirm` is confirmed. `fault`:
   * judging failed, and was reported.
   */
  readonly reason: "not-found" | "refused" | "invalid" | "unconfirmed" | "fault";
  /** Every refused field, or every invalid one. */
  readonly refusals: readonly Refusal[];
  /** What is to be confirmed: repeat the change with these rules in `confirmed`. Only for `unconfirmed`. */
  readonly confirm?: readonly Confirmation[];
}

/** How a change is checked. */
export interface ChangeOptions {
  /** `strict` (default): one refused field refuses the change. `lenient`: refused fields keep their stored values. */
  readonly mode?: "strict" | "lenient";
  /** Addresses of the rules whose messages the person has confirmed. */
  readonly confirmed?: readonly string[];
}

export const unknownRecord: RejectedChange = { accepted: false, reason: "not-found", refusals: [] };
export const faultyChange: RejectedChange = { accepted: false, reason: "fault", refusals: [] };

export function refused(refusals: readonly Refusal[]): RejectedChange {
  return { accepted: false, reason: "refused", refusals };
}

export function invalid(refusals: readonly Refusal[]): RejectedChange {
  return { accepted: false, reason: "invalid", refusals };
}

/** What has not been confirmed yet, or undefined when nothing is left to confirm. */
export function unconfirmed(decisions: readonly Decision[], confirmed: readonly string[]): RejectedChange | undefined {
  if (decisions.length === 0) return undefined;
  const open = new Map<string, Confirmation>();
  for (const one of decisions.flatMap(({ confirm }) => confirm ?? [])) {
    if (!confirmed.includes(one.rule)) open.set(one.rule, one);
  }
  if (open.size === 0) return undefined;
  return { accepted: false, reason: "unconfirmed", refusals: [], confirm: [...open.values()] };
}

export function refusalOf(
  decision: Decision,
  field: Field | undefined,
  action: string,
  messages: UserMessages,
): Refusal {
  const { rule, note } = decision;
  const reason = decision.reason === "permitted" ? "fault" : decision.reason;
  // Written out: spreading optional parts takes most of the time of a refused change (see bench/).
  if (field === undefined) {
    const message = note ?? messages.actionRefused(action);
    return rule === undefined ? { reason, message } : { reason, rule, message };
  }
  const message = note ?? messages.fieldRefused(field.label);
  return rule === undefined ? { field: field.name, reason, message } : { field: field.name, reason, rule, message };
}

export const noSuchRecord = (field: Field, messages: UserMessages): Refusal => ({
  field: field.name,
  reason: "no-such-record",
  message: messages.noSuchRecord,
});

const strict: ChangeOptions = Object.freeze({});

/** Options decide how strict a judgement is, so a wrong one is an error and never the default. */
export function checkOptions(given: unknown): ChangeOptions {
  if (given === undefined) return strict;
  const { mode, confirmed, ...more } = isMapping(given) ? given : {};
  const isRight =
    isMapping(given) &&
    (mode === undefined || mode === "strict" || mode === "lenient") &&
    (confirmed === undefined || (Array.isArray(confirmed) && confirmed.every((one) => typeof one === "string"))) &&
    Object.keys(more).length === 0;
  if (isRight) return given as ChangeOptions;
  const hint = 'give { mode: "strict" or "lenient", confirmed: [rule addresses] }';
  throw portierError("wrong-call", { what: "these are not options of a change", hint });
}
