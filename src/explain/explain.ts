import type { Row } from "../conditions/source.js";
import type { ActionName } from "../rules/actions.js";
import type { Rule } from "../rules/rule.js";
import type { Field } from "../schema/schema.js";
import type { Decision } from "../session/gate.js";
import { insidesOf } from "../session/portier.js";
import type { Reach } from "../session/reach.js";
import type { Session } from "../session/session.js";
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
  const { ruleset, subject, reading } = insidesOf(session);
  const { action, table: tableName, record, field: fieldName } = question;
  const reach = record === undefined ? session.reach(action, tableName, fieldName) : undefined;
  const decision = record === undefined ? undefined : session.decide(action, tableName, record, fieldName);
  const table = ruleset.schema.tables.get(tableName);
  const field = fieldName === undefined ? undefined : table?.byName.get(fieldName);
  const tracer = new Tracer(subject, reading, record);

  const traces = (one: ActionName, about: Field | undefined) => {
    const parts = one === "list" ? (["list", "view"] as const) : [one];
    return parts.flatMap((part) => ruleset.of(tableName, part).map((rule) => traceRule(tracer, rule, part, about)));
  };
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

/** About a record as a whole, a block counts only when the decision names it: it may cover some fields and not others. */
function permitsOnly(rules: readonly RuleTrace[], decision: Decision | undefined): RuleTrace[] {
  return rules.filter((trace) => trace.effect === "permit" || trace.rule === decision?.rule);
}

function traceRule(tracer: Tracer, rule: Rule, action: ActionName, field: Field | undefined): RuleTrace {
  const extent = rule.extents.get(action);
  const isKey = field !== undefined && rule.table.key.includes(field);
  const keyFollows = isKey && (action === "list" || action === "view");
  const covers = extent !== undefined && (field === undefined || keyFollows || extent.fields.has(field));
  const to = tracer.who(rule);
  const where = rule.where.kind === "truth" && rule.where.value === 2 ? undefined : tracer.condition(rule.where);
  return {
    rule: rule.address,
    effect: rule.effect.name,
    action,
    covers,
    fields: rule.table.fields.filter((one) => extent?.fields.has(one)).map(({ name }) => name),
    to,
    where,
    becomes: tracer.describe(rule.becomes),
    applies: covers ? applies(rule, to, where) : "no",
    note: rule.note,
  };
}

function applies(rule: Rule, to: WhoTrace, where: ConditionTrace | undefined): "yes" | "no" | "open" {
  const truths = [where?.truth ?? "true", rule.effect.name === "reserve" ? opposite(to.truth) : to.truth];
  if (truths.includes("false")) return "no";
  if (truths.includes("open")) return "open";
  const holds = rule.effect.phase === "block" || truths.every((truth) => truth === "true");
  if (!holds) return "no";
  return rule.becomes === undefined ? "yes" : "open";
}

function opposite(truth: WhoTrace["truth"]): WhoTrace["truth"] {
  return truth === "true" ? "false" : truth === "false" ? "true" : truth;
}

/** Blocks that apply, permits that apply, what may, and then the rest. */
function relevance(trace: RuleTrace): number {
  const effect = trace.effect === "permit" ? 1 : 0;
  return { yes: 0, open: 2, no: trace.covers ? 4 : 6 }[trace.applies] + effect;
}
