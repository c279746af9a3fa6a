import { type Expression, visitOperands, visitTests } from "../../conditions/expression.js";
import type { Rule } from "../../rules/rule.js";
import type { Ruleset } from "../../rules/ruleset.js";
import type { LintInput } from "./warnings.js";

/** Names that lead nowhere: roles, groups, tables and screens without a use. */
export const nameChecks = [
  unusedRoles,
  unreachableRoles,
  tablesWithoutRules,
  deadScreens,
  rolesNobodyIsAssigned,
  openTables,
];

/** The roles and groups that rules, groups, screens and the giving of roles ask for. */
function namesAsked({ schema, rules, groups, screens, lines }: Ruleset): Set<string> {
  const asked = new Set(
    [...screens.values()].flatMap(({ to, home }) => [...to, ...home].map((name) => lines.get(name)?.of ?? name)),
  );
  for (const who of rules.flatMap((rule) => [...rule.to, ...rule.except])) {
    if (who.kind === "member") asked.add(lines.get(who.name)?.of ?? who.name);
    else if (who.kind === "related") {
      visitOperands(who.met, (operand) => {
        if (operand.kind === "held") asked.add(operand.role);
      });
    }
  }
  for (const { assignableBy } of schema.roles.values()) for (const { name } of assignableBy) asked.add(name);
  for (const name of schema.people?.settings?.settableBy ?? []) asked.add(name);
  for (const member of [...groups.values()].flatMap((group) => [...group.members, ...group.without])) {
    if (member.kind === "member") asked.add(lines.get(member.name)?.of ?? member.name);
  }
  for (const condition of conditionsOf(rules, groups)) addAsked(condition, asked);
  return asked;
}

function conditionsOf(rules: readonly Rule[], groups: Ruleset["groups"]): Expression[] {
  const ofRules = rules.flatMap(({ where, becomes }) => [where, ...(becomes === undefined ? [] : [becomes])]);
  const ofGroups = [...groups.values()].flatMap(({ where, members, without }) => [
    where,
    ...[...members, ...without].flatMap((member) => (member.kind === "where" ? [member.condition] : [])),
  ]);
  return [...ofRules, ...ofGroups];
}

/** The roles and groups that a condition asks about, of whomever. */
function addAsked(condition: Expression, asked: Set<string>): void {
  visitTests(condition, (test) => {
    if (test.kind === "open") asked.add(test.name);
    if (test.kind === "person") asked.add(test.member);
    if (test.kind === "belongs" && test.subject.kind === "held") asked.add(test.subject.role);
    if (test.kind === "exists") addAsked(test.condition, asked);
  });
}

function unusedRoles({ ruleset, warnings }: LintInput): void {
  const asked = namesAsked(ruleset);
  for (const role of ruleset.schema.roles.values()) {
    if (role.closure.size === 1 && !asked.has(role.name)) {
      warnings.add("unused-role", { role: role.name }, ["roles", role.name]);
    }
  }
  for (const group of ruleset.groups.values()) {
    if (group.roles.length === 0 && !asked.has(group.name)) {
      warnings.add("unused-group", { group: group.name }, ["groups", group.name]);
    }
  }
}

/** A rule of every table that only stops something opens none of them. */
function tablesWithoutRules({ ruleset, warnings }: LintInput): void {
  const permits = ruleset.rules.filter(({ effect }) => effect.phase === "permit");
  const ruled = new Set(permits.map((rule) => rule.table.name));
  for (const table of ruleset.schema.tables.keys()) {
    if (!ruled.has(table)) warnings.add("table-without-rules", { table }, ["tables", table]);
  }
}

/** Roles that nothing brings to anybody. A text field could hold any role's name. */
function unreachableRoles({ ruleset, warnings }: LintInput): void {
  const { schema, groups, carriers, lines } = ruleset;
  const { people, roles, kept } = schema;
  if (people === undefined) return;
  const given = new Set<string>();
  for (const source of people.roles) {
    if (source.kind === "link" && source.isMixed) continue;
    const field = source.kind === "field" ? source.field : source.role;
    const scope = source.kind === "field" ? undefined : source.on?.type.target;
    const { choices } = field.type.element ?? field.type;
    for (const role of roles.values()) {
      if (role.scope === scope && (choices === undefined || choices.includes(role.name))) given.add(role.name);
    }
  }
  for (const role of roles.values()) {
    if (kept !== undefined && role.assignableBy.length > 0) given.add(role.name);
  }
  // Includes and groups add to what is given, also to what a group brings to the members of another.
  let before = -1;
  while (given.size > before) {
    before = given.size;
    for (const name of [...given]) for (const brought of roles.get(name)?.closure ?? []) given.add(brought);
    for (const group of groups.values()) {
      const isReached = group.members.some(
        (member) => member.kind !== "member" || given.has(lines.get(member.name)?.of ?? member.name),
      );
      if (isReached) for (const name of [group.name, ...group.roles]) given.add(name);
    }
  }
  for (const { name } of roles.values()) {
    if (!given.has(name) && !(carriers.get(name) ?? []).some(({ group }) => given.has(group.name)))
      warnings.add("unreachable-role", { role: name }, ["roles", name]);
  }
}

/**
 * What somebody holds who holds a role, or is in a group: that, and what brought them in. Whoever is in a group by a condition
 * may hold any other role as well. (A circle of groups does not compile.)
 */
function waysToBe(written: string, ruleset: Ruleset): string[][] {
  const { schema, groups, lines } = ruleset;
  // Whoever is somewhere along a line is looked at as who begins it.
  const name = lines.get(written)?.of ?? written;
  const members = groups.get(name)?.members ?? [];
  const ways = members.flatMap((member) =>
    member.kind === "member" ? waysToBe(member.name, ruleset) : [...schema.roles.keys()].map((role) => [role]),
  );
  return [[name], ...ways.map((way) => [name, ...way])];
}

/** Screens that nobody sees, or that not all see whom they are for. */
function deadScreens({ portier, ruleset, warnings, request }: LintInput): void {
  const { screens, schema, groups } = ruleset;
  const everybody = [...schema.roles.keys(), ...groups.keys()];
  const alone = [[], ...everybody.flatMap((one) => waysToBe(one, ruleset))];
  // Where two rules each ask for another role, somebody may hold both.
  const together = everybody.flatMap((one, index) => everybody.slice(index + 1).map((other) => [one, other]));
  for (const { name, needs, to, home } of screens.values()) {
    const named = [...new Set([...to, ...home])].filter((one) => one !== "anyone" && one !== "signed-in");
    for (const { text, action, table, field } of needs) {
      const permits = (who: readonly string[]) =>
        portier.sessionForRoles(who, { request }).reach(action, table.name, field?.name) !== "none";
      const without = named.filter((one) => !waysToBe(one, ruleset).some(permits));
      const isDead = named.length === 0 && !alone.some(permits) && !together.some(permits);
      if (without.length === 0 && !isDead) continue;
      warnings.add("unreachable-screen", { screen: name, need: text, who: without }, ["screens", name]);
    }
  }
}

/** Of a table that is observed nothing is refused or hidden in a database. */
function openTables({ ruleset, warnings }: LintInput): void {
  for (const { name, observe } of ruleset.schema.tables.values()) {
    if (observe) warnings.add("observed-table", { table: name }, ["tables", name]);
  }
}

/** Who assigns a role says nothing where roles are not assigned; and a role that must be held is to be given by somebody. */
function rolesNobodyIsAssigned({ ruleset, warnings }: LintInput): void {
  const { roles, kept } = ruleset.schema;
  for (const { name, assignableBy, minHolders } of roles.values()) {
    if (assignableBy.length > 0 && kept === undefined)
      warnings.add("assignable-without-assignments", { role: name }, ["roles", name]);
    if (minHolders > 0 && assignableBy.length === 0 && kept !== undefined)
      warnings.add("min-holders-not-assignable", { role: name }, ["roles", name]);
  }
}
