import { type Expression, operandsOf, pushNots, visitOperands, visitTests } from "../conditions/expression.js";
import type { Row, Source } from "../conditions/source.js";
import { specialize } from "../conditions/specialize.js";
import type { Ruleset } from "../rules/compile-rules.js";
import { overlaps } from "../rules/ranges.js";
import type { Extent, Rule } from "../rules/rule.js";
import type { Problem } from "../schema/problems.js";
import { Problems } from "../schema/report.js";
import type { Field } from "../schema/schema.js";
import { type Portier, rulesetOf } from "../session/portier.js";

/** Records that sharpen doubts: by table, and where sessions read them. */
export interface LintData {
  readonly tables: ReadonlyMap<string, readonly Row[]>;
  readonly source: Source;
}

/** What a doubt is looked for in. */
interface LintInput {
  readonly portier: Portier;
  readonly ruleset: Ruleset;
  readonly data: LintData | undefined;
  readonly doubts: Problems;
}

/**
 * Doubts about a document that is right: what is there without effect, or probably wider than meant. Each has the path
 * of its place in the document.
 */
export function lint(portier: Portier, data?: LintData): Problem[] {
  const doubts = new Problems();
  const input: LintInput = { portier, ruleset: rulesetOf(portier), data, doubts };
  for (const check of checks) check(input);
  return doubts.list;
}

const checks: readonly ((input: LintInput) => void)[] = [
  unusedRoles,
  tablesWithoutRules,
  blindEdits,
  sensitiveForAnyone,
  emptyExtents,
  neverMet,
  nullComparisons,
  personsInRules,
  severalReserves,
  nullsInExists,
  rolesNobodyHolds,
  rolesNobodyIsGiven,
];

const rulePath = (rule: Rule) => rule.path;
const nameOf = (rule: Rule): string => rule.address.slice(rule.address.indexOf("/") + 1);

/** The roles and groups that rules, groups and the giving of roles ask for. */
function namesAsked({ schema, rules, groups }: Ruleset): Set<string> {
  const asked = new Set<string>();
  for (const who of rules.flatMap((rule) => [...rule.to, ...rule.except])) {
    if (who.kind === "member") asked.add(who.name);
    else if (who.kind === "related") {
      visitOperands(who.met, (operand) => {
        if (operand.kind === "held") asked.add(operand.role);
      });
    }
  }
  for (const { givenBy } of schema.roles.values()) for (const { name } of givenBy) asked.add(name);
  for (const member of [...groups.values()].flatMap((group) => [...group.members, ...group.without])) {
    if (member.kind === "member") asked.add(member.name);
  }
  return asked;
}

function unusedRoles({ ruleset, doubts }: LintInput): void {
  const asked = namesAsked(ruleset);
  for (const role of ruleset.schema.roles.values()) {
    if (role.closure.size === 1 && !asked.has(role.name)) {
      doubts.add("unused-role", { role: role.name }, ["roles", role.name]);
    }
  }
  for (const group of ruleset.groups.values()) {
    if (group.roles.length === 0 && !asked.has(group.name)) {
      doubts.add("unused-group", { group: group.name }, ["groups", group.name]);
    }
  }
}

function tablesWithoutRules({ ruleset, doubts }: LintInput): void {
  const ruled = new Set(ruleset.rules.map((rule) => rule.table.name));
  for (const table of ruleset.schema.tables.keys()) {
    if (!ruled.has(table)) doubts.add("table-without-rules", { table }, ["tables", table]);
  }
}

/** Fields that those a rule is for may edit, while nothing lets them see these. */
function blindEdits({ portier, ruleset, doubts }: LintInput): void {
  const shownAtAll = new Set<Field>();
  for (const rule of ruleset.rules.filter(({ effect }) => effect.phase === "permit")) {
    for (const action of ["list", "view"] as const) {
      for (const field of rule.extents.get(action)?.fields ?? []) shownAtAll.add(field);
    }
  }
  for (const rule of ruleset.rules) {
    const edited = [...(rule.extents.get("edit")?.fields ?? [])].filter((field) => !rule.table.key.includes(field));
    if (rule.effect.phase !== "permit" || edited.length === 0) continue;
    for (const who of rule.to) {
      const session =
        who.kind === "member" && ruleset.schema.roles.has(who.name) ? portier.sessionForRoles([who.name]) : undefined;
      const blind = edited.filter((field) =>
        session === undefined
          ? !shownAtAll.has(field)
          : (["list", "view"] as const).every(
              (action) => session.reach(action, rule.table.name, field.name) === "none",
            ),
      );
      if (blind.length === 0) continue;
      const fields = blind.map(({ name }) => name);
      doubts.add("blind-edit", { table: rule.table.name, fields, who: who.text }, rulePath(rule));
    }
  }
}

function sensitiveForAnyone({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    if (rule.effect.phase !== "permit" || !rule.to.some(({ kind }) => kind === "anyone")) continue;
    const shown = [rule.extents.get("list"), rule.extents.get("view")].flatMap((extent) => [...(extent?.fields ?? [])]);
    const fields = [...new Set(shown.filter((field) => field.sensitive).map((field) => field.name))];
    if (fields.length > 0) doubts.add("sensitive-for-anyone", { rule: nameOf(rule), fields }, rulePath(rule));
  }
}

function emptyExtents({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    for (const [action, extent] of rule.extents) {
      if (extent.act || extent.fields.size > 0) continue;
      doubts.add("covers-nothing", { rule: nameOf(rule), action }, rulePath(rule));
    }
  }
}

function neverMet({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    const conditions = [rule.where, rule.becomes].map((one) => one && specialize(one, (operand) => operand));
    // A permit that is at best unknown is never met either.
    const lost = rule.effect.phase === "permit" ? 2 : 0;
    if (!conditions.some((one) => one?.kind === "truth" && one.value <= lost)) continue;
    doubts.add("never-met", { rule: nameOf(rule) }, rulePath(rule));
  }
}

function nullComparisons({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    const conditions = [rule.where, rule.becomes].filter((one) => one !== undefined);
    if (conditions.some(comparesWithNull)) doubts.add("null-comparison", { rule: nameOf(rule) }, rulePath(rule));
  }
}

function comparesWithNull(expression: Expression): boolean {
  if (expression.kind === "and" || expression.kind === "or") return expression.terms.some(comparesWithNull);
  if (expression.kind === "not") return comparesWithNull(expression.term);
  let found = false;
  visitOperands(expression, (operand) => {
    found ||= operand.kind === "constant" && operand.value === null;
  });
  return found;
}

function rolesNobodyHolds({ portier, ruleset, data, doubts }: LintInput): void {
  const people = ruleset.schema.people && data?.tables.get(ruleset.schema.people.table.name);
  if (people === undefined || data === undefined) return;
  const held = new Set(people.flatMap((person) => portier.session({ person, source: data.source }).roles));
  for (const rule of ruleset.rules) {
    if (rule.to.length === 0 || !rule.to.every((who) => who.kind === "member" && ruleset.schema.roles.has(who.name)))
      continue;
    const roles = rule.to.map(({ text }) => text);
    if (roles.some((role) => held.has(role))) continue;
    doubts.add("role-not-held", { rule: nameOf(rule), roles }, rulePath(rule));
  }
}

function personsInRules({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    for (const { text } of [...rule.to, ...rule.except].filter(({ text }) => /^person\s/.test(text))) {
      doubts.add("person-in-rule", { rule: nameOf(rule), entry: text }, rulePath(rule));
    }
  }
}

/** Two reserves on one thing: both must be met, which is seldom meant. */
function severalReserves({ ruleset, doubts }: LintInput): void {
  const reserves = ruleset.rules.filter((rule) => rule.effect.name === "reserve");
  for (const [index, rule] of reserves.entries()) {
    for (const other of reserves.slice(index + 1).filter((one) => one.table === rule.table)) {
      const isSame = rule.to.map(({ text }) => text).join() === other.to.map(({ text }) => text).join();
      for (const [action, extent] of isSame ? [] : rule.extents) {
        const second = other.extents.get(action);
        if (second === undefined || !areasMeet(extent, second)) continue;
        const fields = [...extent.fields].filter((field) => second.fields.has(field)).map(({ name }) => name);
        if (fields.length === 0 && !(extent.act && second.act)) continue;
        const facts = { rules: [nameOf(rule), nameOf(other)], action, fields };
        doubts.add("two-reserves", facts, rulePath(other));
      }
    }
  }
}

/** Whether two extents can have a place in common; without cells they are everywhere. */
function areasMeet({ cells: a }: Extent, { cells: b }: Extent): boolean {
  if (a === undefined || b === undefined) return true;
  return a.ranges.some((one) => b.ranges.some((other) => overlaps(one, other)));
}

/** A null makes a record pass by an `exists`: where a block needs one, or a permit needs none, that lets something through. */
function nullsInExists({ ruleset, doubts }: LintInput): void {
  for (const rule of ruleset.rules) {
    const isPermit = rule.effect.phase === "permit";
    for (const condition of [rule.where, rule.becomes].filter((one) => one !== undefined)) {
      for (const { table, condition: inner } of existsUnder(condition, isPermit)) {
        const fields = nullableFields(inner);
        if (fields.length === 0) continue;
        const facts = { rule: nameOf(rule), effect: rule.effect.name, table, fields };
        doubts.add("null-in-exists", facts, rulePath(rule));
      }
    }
  }
}

type Exists = Extract<Expression, { kind: "exists" }>;

/** The `exists` of a condition, or of its opposite, that do not stand under a "not". */
function existsUnder(condition: Expression, isNegated: boolean): Exists[] {
  const found = (one: Expression): Exists[] => {
    if (one.kind === "and" || one.kind === "or") return one.terms.flatMap(found);
    return one.kind === "exists" ? [one] : [];
  };
  return found(pushNots(condition, isNegated));
}

/** Optional fields that a comparison reads; to ask whether one is null is no reliance on it. */
function nullableFields(condition: Expression): string[] {
  const names = new Set<string>();
  visitTests(condition, (test) => {
    if (test.kind === "is-null" || test.kind === "exists") return;
    for (const operand of operandsOf(test)) {
      if (operand.kind !== "field") continue;
      for (const field of operand.path) if (field.optional) names.add(field.name);
    }
  });
  return [...names];
}

/** Who gives a role says nothing where roles are not assigned; and a role that must be held is to be given by somebody. */
function rolesNobodyIsGiven({ ruleset, doubts }: LintInput): void {
  const { roles, kept } = ruleset.schema;
  for (const { name, givenBy, atLeast } of roles.values()) {
    if (givenBy.length > 0 && kept === undefined)
      doubts.add("giving-without-assignments", { role: name }, ["roles", name]);
    if (atLeast > 0 && givenBy.length === 0 && kept !== undefined)
      doubts.add("held-and-not-given", { role: name }, ["roles", name]);
  }
}
