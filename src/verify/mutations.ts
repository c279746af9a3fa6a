import { parseCondition } from "../conditions/parser.js";
import { printCondition } from "../conditions/printer.js";
import type { ComparisonOp, Condition } from "../conditions/syntax.js";
import { type EffectName, effectNames } from "../rules/effects.js";
import type { DocumentInput } from "../schema/document.js";
import type { Path } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";

/** A document with one small mistake in it, as somebody could make it. */
export interface Mutation {
  /** Where in the document. */
  readonly path: Path;
  /** The address of the rule that is changed: `objects/labels-are-public`. */
  readonly rule: string;
  /** The table that the rule stands in; `*` for every table. */
  readonly table: string;
  /** What is changed: `drop the rule`. */
  readonly what: string;
  readonly document: DocumentInput;
}

type Mapping = Readonly<Record<string, unknown>>;

/** A part of a rule put in place of what is there; undefined where it is taken out. */
interface Step {
  readonly what: string;
  readonly path: Path;
  readonly rule: Mapping | undefined;
}

/**
 * A document changed in one small step after the other: a rule dropped, a condition dropped, a comparison turned round,
 * "and" and "or" exchanged, "starts with" made "contains", an exception dropped, another role or everybody in its place,
 * an extent widened to all. Those that do not compile are for the caller to leave out.
 */
export function* mutationsOf(document: DocumentInput): Iterable<Mutation> {
  const roles = Object.keys(document.roles ?? {});
  for (const [table, declared] of Object.entries(document.tables)) {
    for (const [name, rule] of Object.entries(declared.rules ?? {})) {
      const path = ["tables", table, "rules", name];
      for (const step of stepsOf(rule as Mapping, path, roles)) {
        const changed = withRule(document, table, name, step.rule);
        yield { path: step.path, rule: `${table}/${name}`, table, what: step.what, document: changed };
      }
    }
  }
}

function* stepsOf(rule: Mapping, path: Path, roles: readonly string[]): Iterable<Step> {
  yield { what: "drop the rule", path, rule: undefined };
  for (const key of ["where", "becomes"] as const) {
    const text = rule[key];
    if (typeof text !== "string" || text === "any") continue;
    const place = [...path, key];
    yield { what: `drop "${key}"`, path: place, rule: without(rule, key) };
    for (const { what, text: changed } of changedConditions(text)) {
      yield { what: `${key}: ${what}`, path: place, rule: { ...rule, [key]: changed } };
    }
  }
  if (rule["except"] !== undefined) {
    yield { what: "drop the exception", path: [...path, "except"], rule: without(rule, "except") };
  }
  if (rule["alsoAfter"] === true) {
    yield { what: 'drop "alsoAfter"', path: [...path, "alsoAfter"], rule: without(rule, "alsoAfter") };
  }
  yield* changedWho(rule, path, roles);
  yield* changedExtents(rule, path);
}

/** Another role in the place of each that is named, and everybody in the place of all. */
function* changedWho(rule: Mapping, path: Path, roles: readonly string[]): Iterable<Step> {
  const to = rule["to"];
  if (to === undefined) return;
  const entries = Array.isArray(to) ? (to as readonly unknown[]) : [to];
  const place = [...path, "to"];
  if (!entries.includes("anyone")) yield { what: "to anyone", path: place, rule: { ...rule, to: "anyone" } };
  for (const [index, entry] of entries.entries()) {
    const at = roles.indexOf(String(entry));
    const other = at < 0 ? undefined : roles[(at + 1) % roles.length];
    if (other === undefined || entries.includes(other)) continue;
    const changed = entries.map((one, position) => (position === index ? other : one));
    yield { what: `to ${other} instead of ${entry}`, path: place, rule: { ...rule, to: changed } };
  }
}

/** All fields in the place of some, and what is taken out left in. */
function* changedExtents(rule: Mapping, path: Path): Iterable<Step> {
  const effect = effectNames.find((name: EffectName) => rule[name] !== undefined);
  const extents = effect === undefined ? undefined : rule[effect];
  if (effect === undefined || !isMapping(extents)) return;
  for (const [action, extent] of Object.entries(extents)) {
    const place = [...path, effect, action];
    const put = (changed: unknown): Mapping => ({ ...rule, [effect]: { ...extents, [action]: changed } });
    if (Object.keys(extents).length > 1) {
      yield { what: `drop ${action}`, path: place, rule: { ...rule, [effect]: without(extents, action) } };
    }
    if (!Array.isArray(extent)) continue;
    const names = extent as readonly string[];
    if (!names.includes("all")) yield { what: `${action}: all`, path: place, rule: put(["all", ...names]) };
    for (const [index, name] of names.entries()) {
      if (names.length === 1) continue;
      const what = name.startsWith("-") ? `${action}: ${name.slice(1)} left in` : `${action}: ${name} left out`;
      yield { what, path: place, rule: put(names.filter((_, position) => position !== index)) };
    }
  }
}

function without(mapping: Mapping, key: string): Mapping {
  return Object.fromEntries(Object.entries(mapping).filter(([name]) => name !== key));
}

function withRule(document: DocumentInput, table: string, name: string, rule: Mapping | undefined): DocumentInput {
  const declared: Mapping = { ...document.tables[table] };
  const rules = declared["rules"] as Mapping;
  const changed = rule === undefined ? without(rules, name) : { ...rules, [name]: rule };
  return { ...document, tables: { ...document.tables, [table]: { ...declared, rules: changed } } } as DocumentInput;
}

const turned: Readonly<Record<ComparisonOp, ComparisonOp>> = {
  "=": "<>",
  "<>": "=",
  "<": ">=",
  "<=": ">",
  ">": "<=",
  ">=": "<",
};

/** Conditions with one test, or one "and" or "or", turned round. */
function changedConditions(text: string): { readonly what: string; readonly text: string }[] {
  const parsed = parseCondition(text);
  if ("problems" in parsed) return [];
  return [...changes(parsed.condition)].map(([what, condition]) => ({ what, text: printCondition(condition) }));
}

function* changes(condition: Condition): Iterable<[what: string, changed: Condition]> {
  switch (condition.kind) {
    case "and":
    case "or": {
      const other = condition.kind === "and" ? "or" : "and";
      yield [`${other} instead of ${condition.kind}`, { ...condition, kind: other }];
      for (const [index, term] of condition.terms.entries()) {
        const left = condition.terms.filter((_, position) => position !== index);
        const [only] = left;
        const rest: Condition = only !== undefined && left.length === 1 ? only : { ...condition, terms: left };
        yield [`without ${printCondition(term)}`, rest];
        for (const [what, changed] of changes(term)) {
          yield [what, { ...condition, terms: condition.terms.map((one, at) => (at === index ? changed : one)) }];
        }
      }
      return;
    }
    case "not":
      yield ["without not", condition.term];
      for (const [what, changed] of changes(condition.term)) yield [what, { ...condition, term: changed }];
      return;
    case "compare":
      yield [`${turned[condition.op]} instead of ${condition.op}`, { ...condition, op: turned[condition.op] }];
      return;
    case "match":
      if (condition.how === "starts with" || condition.how === "ends with") {
        yield [`contains instead of ${condition.how}`, { ...condition, how: "contains" }];
      }
      yield ["turned round", { ...condition, negated: !condition.negated }];
      return;
    case "in":
    case "in-list":
    case "between":
    case "is-null":
    case "member":
      yield ["turned round", { ...condition, negated: !condition.negated }];
      return;
    case "exists":
      yield ["not exists", { kind: "not", term: condition, at: condition.at }];
      for (const [what, changed] of changes(condition.condition)) yield [what, { ...condition, condition: changed }];
      return;
    case "may":
      yield [`not may ${condition.action}`, { kind: "not", term: condition, at: condition.at }];
      return;
    case "truth":
      return;
    default:
      condition satisfies never;
  }
}
