import { type Expression, visitTests } from "../conditions/expression.js";
import type { Schema } from "../schema/schema.js";
import type { ActionName } from "./actions.js";
import { type Carrier, carriersOf, type Group } from "./groups.js";
import type { Line } from "./lines.js";
import type { CellRange } from "./ranges.js";
import type { Rule } from "./rule.js";
import type { Screen } from "./screens.js";
import { collectSessionOperands, type SessionOperands } from "./session-operands.js";

/** What is written in a document, checked and with every name resolved. */
export interface RulesetParts {
  readonly schema: Schema;
  readonly groups: ReadonlyMap<string, Group>;
  /** In declared order. */
  readonly screens: ReadonlyMap<string, Screen>;
  readonly rules: readonly Rule[];
  /** The lines of people that rules, groups and screens name, by their names. */
  readonly lines: ReadonlyMap<string, Line>;
  /** Named ranges by table. */
  readonly ranges: ReadonlyMap<string, ReadonlyMap<string, CellRange>>;
}

/** A document that has been checked as a whole: its schema, and its rules by table and action. Immutable. */
export interface Ruleset extends RulesetParts {
  /** For each role that a group brings, those that do. */
  readonly carriers: ReadonlyMap<string, readonly Carrier[]>;
  /** Whether any roles exclude each other. */
  readonly hasExclusiveRoles: boolean;
  /** The rules of a table that speak of an action, in the order of their addresses. */
  of(table: string, action: ActionName): readonly Rule[];
  readonly sessionOperands: SessionOperands;
  /** The roles and groups that rules name: what of a person's memberships decisions depend on. */
  readonly memberships: ReadonlySet<string>;
  /** The rules that are there for a time only; one of each pattern. */
  readonly timed: readonly Rule[];
}

/** Works out what follows from the parts of a document. Rules may come in any order. */
export function makeRuleset(parts: RulesetParts): Ruleset {
  const { schema, groups } = parts;
  // In the order of their addresses, so that no answer can depend on the order in which rules were written.
  const rules = [...parts.rules].sort((a, b) => (a.address < b.address ? -1 : a.address > b.address ? 1 : 0));
  const index = indexRules(rules);
  const none: readonly Rule[] = [];
  const distinct = [...new Set(rules.map((rule) => rule.pattern ?? rule))];
  const carriers = carriersOf(groups, schema.roles);
  return {
    ...parts,
    rules,
    carriers,
    hasExclusiveRoles: [...schema.roles.values()].some(({ exclusive }) => exclusive.size > 0),
    of: (table, action) => index.get(table)?.get(action) ?? none,
    sessionOperands: collectSessionOperands(distinct),
    memberships: collectMemberships(distinct),
    timed: distinct.filter((rule) => rule.from !== undefined || rule.until !== undefined),
  };
}

function indexRules(rules: readonly Rule[]): Map<string, Map<ActionName, Rule[]>> {
  const index = new Map<string, Map<ActionName, Rule[]>>();
  for (const rule of rules) {
    const byAction = index.get(rule.table.name) ?? new Map<ActionName, Rule[]>();
    index.set(rule.table.name, byAction);
    for (const action of rule.extents.keys()) {
      const list = byAction.get(action);
      if (list === undefined) byAction.set(action, [rule]);
      else list.push(rule);
    }
  }
  return index;
}

function collectMemberships(rules: readonly Rule[]): Set<string> {
  const names = new Set<string>();
  const visit = (condition: Expression) =>
    visitTests(condition, (test) => {
      if (test.kind === "open") names.add(test.name);
      if (test.kind === "exists") visit(test.condition);
    });
  for (const { to, except, where, becomes } of rules) {
    for (const who of [...to, ...except]) if (who.kind === "member") names.add(who.name);
    for (const condition of [where, becomes]) if (condition !== undefined) visit(condition);
  }
  return names;
}
