import { compileRead, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { type ActionName, actionOf } from "../rules/actions.js";
import { hasRow } from "../rules/cells.js";
import type { Field, Table } from "../schema/schema.js";
import type { Decision } from "../session/decision.js";
import { insidesOf } from "../session/portier.js";
import type { Reach } from "../session/reach.js";
import { type CountingRule, countingRules } from "../session/residual.js";
import type { Session } from "../session/session.js";
import { isInForce } from "../session/subject.js";
import { type Alternative, findAlternatives } from "./missing.js";
import { type ConditionTrace, type RuleTrace, Tracer, type WhoTrace } from "./trace.js";

export interface Question {
  readonly action: ActionName;
  readonly table: string;
  /** None: the question is about the table as a whole. */
  readonly record?: Row | undefined;
  readonly field?: string | undefined;
}

/**
 * Why the answer is what it is. For developers and administrators: it names values that the person who asked may not
 * see, so it is never sent to them.
 */
export interface Explanation {
  readonly action: ActionName;
  readonly table: string;
  readonly field: string | undefined;
  readonly decision: Decision | undefined;
  /** For a question without a record. */
  readonly reach: Reach | undefined;
  /** False for a person who is not active or not in the people table: then no rule is met, whatever it says. */
  readonly meets: boolean;
  readonly roles: readonly string[];
  /** Every rule of the table that speaks of the action, those that bear on the answer first. */
  readonly rules: readonly RuleTrace[];
  /** For a denial: what would have to be otherwise, the shortest way first. */
  readonly alternatives: readonly Alternative[];
  /** For `not-found`: what would have to be otherwise for the person to know of the record at all. */
  readonly toKnow: readonly Alternative[];
}

/** Explains the session's own answer to a question; the decision itself comes from the session. */
export function explain(session: Session, question: Question): Explanation {
  const { ruleset, subject, reading, plan } = insidesOf(session);
  const { action, table: tableName, record, field: fieldName } = question;
  const reach = record === undefined ? session.reach(action, tableName, fieldName) : undefined;
  const decision = record === undefined ? undefined : session.decide(action, tableName, record, fieldName);
  const { table } = plan.of(tableName);
  const field = fieldName === undefined ? undefined : table.byName.get(fieldName);
  const tracer = new Tracer(ruleset, subject, plan, reading, record);

  const traces = (one: ActionName, about: Field | undefined) =>
    actionsBehind(table, one).flatMap((part) =>
      countingRules(ruleset, table, part).map((counting) => {
        const place = record === undefined ? "any" : placeOf(table, record, reading);
        return traceRule(tracer, counting, part, about, place, isInForce(counting.rule, subject.now));
      }),
    );
  const rules = traces(action, field).sort((a, b) => relevance(a) - relevance(b));
  const refused = subject.meets && (decision === undefined ? reach === "none" : !decision.permitted);
  return {
    action,
    table: tableName,
    field: fieldName,
    decision,
    reach,
    meets: subject.meets,
    roles: session.roles,
    rules,
    alternatives: refused ? findAlternatives(field === undefined ? permitsOnly(rules, decision) : rules) : [],
    toKnow: refused && decision?.reason === "not-found" ? findAlternatives(traces("list", undefined)) : [],
  };
}

/** The actions whose rules an answer comes from: a permitted view also permits list, and a gate stands on its action. */
function actionsBehind(table: Table, action: ActionName): readonly ActionName[] {
  const on = actionOf(table, action)?.on;
  if (on !== undefined) return [on, action];
  return action === "list" ? ["list", "view"] : [action];
}

/** The row of a record in a grid; undefined where it cannot be told; `any` without a record or a grid. */
type Place = number | undefined | "any";

function placeOf({ grid }: Table, record: Row, reading: Reading): Place {
  if (grid === undefined) return "any";
  const { position } = grid;
  const read = compileRead({ kind: "field", type: position.type, path: [position] });
  const place = read(record, { source: reading.source, badData: () => {} });
  return typeof place === "number" ? place : undefined;
}

/** About a record as a whole, a block counts only when the decision names it: it may cover some fields and not others. */
function permitsOnly(rules: readonly RuleTrace[], decision: Decision | undefined): RuleTrace[] {
  return rules.filter((trace) => trace.effect === "permit" || trace.rule === decision?.rule);
}

function traceRule(
  tracer: Tracer,
  { rule, options }: CountingRule,
  action: ActionName,
  field: Field | undefined,
  place: Place,
  inForce: boolean,
): RuleTrace {
  const { extent } = options;
  const isKey = field !== undefined && rule.table.key.includes(field);
  const keyFollows = isKey && (action === "list" || action === "view" || action === "export");
  // A reference made by other fields is hidden with any of them.
  const hidesPart = rule.effect.phase === "block" && field?.by?.some((part) => extent.fields.has(part)) === true;
  const inExtent =
    field === undefined ? extent.fields.size > 0 || extent.act : keyFollows || hidesPart || extent.fields.has(field);
  // The key follows from any cell of its row.
  const covers = inExtent && coversPlace({ rule, options }, keyFollows ? undefined : field, place);
  const to = tracer.who(rule);
  const where = rule.where.kind === "truth" && rule.where.value === True ? undefined : tracer.condition(rule.where);
  const isCrossing = options.isCrossing === true;
  const isLate = isCrossing || (rule.bothWays && options.judges === "change");
  return {
    rule: rule.address,
    effect: rule.effect.name,
    action,
    covers,
    fields: rule.table.fields.filter((one) => extent.fields.has(one)).map(({ name }) => name),
    to,
    where,
    becomes: tracer.describe(rule.becomes),
    period: rule.from === undefined && rule.until === undefined ? undefined : { ...periodOf(rule), inForce },
    applies: covers && inForce ? applies(rule, to, where, isLate, isCrossing) : "no",
    note: rule.note,
  };
}

function periodOf({ from, until }: CountingRule["rule"]): { readonly from?: string; readonly until?: string } {
  return { ...(from === undefined ? {} : { from }), ...(until === undefined ? {} : { until }) };
}

/** Whether a rule on cells covers the record's row; one that is not known is held by every block, and permitted by none. */
function coversPlace({ rule, options: { extent } }: CountingRule, field: Field | undefined, place: Place): boolean {
  const { cells } = extent;
  if (cells === undefined || place === "any") return true;
  if (place === undefined) return rule.effect.phase !== "permit";
  const rows = field === undefined ? [...cells.rowsOf.values()] : [cells.rowsOf.get(field) ?? []];
  const isCell = rows.some((one) => hasRow(one, place));
  return field === undefined && extent.fields.size === 0 ? hasRow(cells.held, place) : isCell;
}

function applies(
  rule: CountingRule["rule"],
  to: WhoTrace,
  where: ConditionTrace | undefined,
  isLate: boolean,
  isCrossing: boolean,
): "yes" | "no" | "open" {
  const truths = [where?.truth ?? "true", rule.effect.name === "reserve" ? opposite(to.truth) : to.truth];
  if (truths.includes("open")) return truths.includes("false") && !isLate ? "no" : "open";
  // Tested again after the change, a condition that does not hold now may hold then.
  if (truths.includes("false")) return isLate && truths[1] !== "false" ? "open" : "no";
  const holds = rule.effect.phase !== "permit" || truths.every((truth) => truth === "true");
  if (!holds) return "no";
  // What holds both ways and holds now needs no more; where a row would go to, only the change says.
  return rule.becomes === undefined && !isCrossing ? "yes" : "open";
}

function opposite(truth: WhoTrace["truth"]): WhoTrace["truth"] {
  return truth === "true" ? "false" : truth === "false" ? "true" : truth;
}

/** Blocks that apply, permits that apply, confirms, what may apply, and then the rest. */
function relevance(trace: RuleTrace): number {
  const effect = { deny: 0, reserve: 0, permit: 1, confirm: 2 }[trace.effect];
  return { yes: 0, open: 3, no: trace.covers ? 6 : 9 }[trace.applies] + effect;
}
