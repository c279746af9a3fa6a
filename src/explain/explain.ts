import { compileRead, quietly, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { type ActionName, actionOf, countingFor } from "../rules/actions.js";
import { isPlace } from "../rules/cells.js";
import { effects } from "../rules/effects.js";
import type { Field, Table } from "../schema/schema.js";
import type { Decision } from "../session/decision.js";
import { internals } from "../session/internals.js";
import type { Reach } from "../session/reach.js";
import { rowOf } from "../session/row.js";
import type { Session } from "../session/session.js";

import { knownGate, waysTo } from "./gates.js";
import { HeldNames } from "./held-names.js";
import { findRemedies, type Gates, type MissingCondition, type Remedy } from "./missing.js";
import { type RuleTrace, Tracer } from "./trace.js";
import { type Place, TracedRules } from "./traced-rules.js";

/** A question that an explanation answers. */
export interface Question {
  readonly action: ActionName;
  readonly table: string;
  /** None: the question is about the table as a whole. */
  readonly record?: object | undefined;
  /** Left out: the question is about the record as a whole. */
  readonly field?: string | undefined;
}

/**
 * Why the answer is what it is. For developers and administrators: it names values that the current user may not
 * see, so it is never sent to them.
 */
export interface Explanation {
  readonly action: ActionName;
  readonly table: string;
  readonly field: string | undefined;
  /** Undefined for a question without a record: see `reach`. */
  readonly decision: Decision | undefined;
  /** For a question without a record. */
  readonly reach: Reach | undefined;
  /** False for a person who is not active or not in the people table: then no rule applies to them. True for a visitor. */
  readonly isActive: boolean;
  /** Every role that the person holds, also through others and groups; `lead of e-1` for a scoped one. */
  readonly roles: readonly string[];
  /** Every rule of the table about the action, those that apply first. */
  readonly rules: readonly RuleTrace[];
  /** For a denial: what would allow it, the fewest conditions first. Each is complete: whoever meets it is permitted. */
  readonly remedies: readonly Remedy[];
  /** For `not-found`: what would let the person see the record at all. */
  readonly toSeeRecord: readonly Remedy[];
}

/** How each rule stands to a question, those that apply first: an explanation without its remedies. */
export function traceRules(session: Session, question: Question): readonly RuleTrace[] {
  return traced(session, question).rules;
}

function traced(session: Session, { action, table: name, record: given, field: fieldName }: Question) {
  const record = given === undefined ? undefined : rowOf("explain", given);
  const { ruleset, subject, reading, plan } = internals(session);
  const { table } = plan.of(name);
  const field = fieldName === undefined ? undefined : table.byName.get(fieldName);
  const tracer = new Tracer(ruleset, subject, plan, reading, record);
  const place = record === undefined ? "any" : placeOf(table, record, reading);
  const all = new TracedRules(ruleset, tracer, table, place, subject);
  const rules = actionsBehind(table, action)
    .flatMap((part) => all.of(part))
    .map((one) => all.trace(one, field))
    .sort((a, b) => relevance(a) - relevance(b));
  return { field, all, rules };
}

/**
 * Explains the session's own answer to a question; the decision itself comes from the session.
 *
 * @throws PortierError (`unknown-table`, `wrong-call`) for a table, field or action that is not there.
 *
 * @example
 * const why = explain(session, { action: "view", table: "objects", record, field: "insured_value" });
 * why.decision?.permitted; // false
 * why.remedies; // what would allow it: here one way, to hold "registrar" or "director"
 */
export function explain(session: Session, question: Question): Explanation {
  const { ruleset, subject } = internals(session);
  const { action, table: tableName, record, field: fieldName } = question;
  const reach = record === undefined ? session.reach(action, tableName, fieldName) : undefined;
  const decision = record === undefined ? undefined : session.decide(action, tableName, record, fieldName);
  const { field, all, rules } = traced(session, question);
  const refused = subject.meets && (decision === undefined ? reach === "none" : !decision.permitted);
  const held = new HeldNames(ruleset, subject, all.table);
  const lacking = (ways: readonly Gates[], more: readonly MissingCondition[] = []) => findRemedies(ways, held, more);
  return {
    action,
    table: tableName,
    field: fieldName,
    decision,
    reach,
    isActive: subject.meets,
    roles: session.roles,
    rules,
    remedies: refused ? lacking(waysTo(all, action, field), sourceNeeds(field)) : [],
    toSeeRecord: refused && decision?.reason === "not-found" ? lacking([[knownGate(all)]]) : [],
  };
}

/** The actions whose rules an answer comes from: a permitted view also permits list, and a gate stands on its action. */
function actionsBehind(table: Table, action: ActionName): readonly ActionName[] {
  const on = actionOf(table, action)?.on;
  if (on !== undefined) return [on, action];
  return countingFor(action);
}

/** What a lookup shows must be shown where it comes from, too. */
function sourceNeeds(field: Field | undefined): MissingCondition[] {
  if (field?.lookup === undefined) return [];
  const { through, field: source } = field.lookup;
  return [{ kind: "where", text: `"${source.name}" may be seen of the record that "${through.name}" leads to` }];
}

function placeOf({ grid }: Table, record: Row, reading: Reading): Place {
  if (grid === undefined) return "any";
  const { position } = grid;
  const read = compileRead({ kind: "field", type: position.type, path: [position] });
  const place = read(record, quietly(reading));
  return isPlace(place) ? place : undefined;
}

/** Blocks that apply, permits that apply, confirms, what may apply, and then the rest. */
function relevance(trace: RuleTrace): number {
  const phase = { block: 0, permit: 1, confirm: 2 }[effects[trace.effect].phase];
  return { yes: 0, open: 3, no: trace.covers ? 6 : 9 }[trace.applies] + phase;
}
