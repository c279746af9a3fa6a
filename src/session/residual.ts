import { type ActionName, actionOf } from "../rules/actions.js";
import { holdsRows } from "../rules/extent.js";
import type { Extent, Rule } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Table } from "../schema/schema.js";
import type { StepSource } from "./plan.js";
import { type StepData, type StepOptions, type StepTests, stepData, stepTests } from "./step.js";
import type { Subject } from "./subject.js";

/** A rule as it counts for an action of its table. */
export interface CountingRule {
  readonly rule: Rule;
  readonly options: StepOptions;
}

/**
 * The residual of a ruleset for one subject: for each table and action the rules that can still apply, as conditions on
 * the record alone. Everything that decides, masks, explains or is sent to a browser reads it.
 */
export function residualSteps(ruleset: Ruleset, subject: Subject): StepSource {
  return (table, action) => {
    const known = new Map<Rule, Map<string, StepTests | undefined>>();
    return countingRules(ruleset, table, action, subject.settings(table)).flatMap(({ rule, options }): StepData[] => {
      const alike = rule.pattern ?? rule;
      const own = known.get(alike) ?? new Map<string, StepTests | undefined>();
      known.set(alike, own);
      if (!own.has(options.judges)) own.set(options.judges, stepTests(alike, subject, options.judges));
      const tests = own.get(options.judges);
      return tests === undefined ? [] : [stepData(rule, tests, options)];
    });
  };
}

/**
 * The rules that speak of an action, what is set of the person alone, and the rules that speak of cells and thereby hold for
 * the action.
 */
export function countingRules(
  ruleset: Ruleset,
  table: Table,
  action: ActionName,
  settings: readonly Rule[],
): CountingRule[] {
  const judges = actionOf(table, action)?.judges ?? "stored";
  const set = settings.filter(({ extents }) => extents.has(action));
  const own = [...ruleset.of(table.name, action), ...set].map(
    (rule): CountingRule => ({ rule, options: { judges, extent: rule.extents.get(action) as Extent } }),
  );
  return [...own, ...heldByCells(ruleset, table, action)];
}

/**
 * What blocks and confirms on editing cells mean for other acts: they hold for values given to these cells on create;
 * and where a range is bounded downwards, it holds its rows against being moved, deleted or made.
 */
function heldByCells(ruleset: Ruleset, table: Table, action: ActionName): CountingRule[] {
  const { grid } = table;
  if (grid === undefined) return [];
  const derived: CountingRule[] = [];
  const place = new Set([grid.position]);
  const none = new Set<never>();
  for (const [by, on] of [
    ["edit", ["edit", "create", "delete"]],
    ["bulk", ["bulk"]],
  ] as const) {
    if (!on.some((one) => one === action)) continue;
    for (const rule of ruleset.of(table.name, by)) {
      const cells = rule.extents.get(by)?.cells;
      if (cells === undefined || rule.effect.phase === "permit") continue;
      if (action === "create") {
        const fields = new Set(cells.rowsOf.keys());
        derived.push({ rule, options: { judges: "new", extent: { fields, act: holdsRows(cells), cells } } });
      } else if (!holdsRows(cells)) continue;
      else if (action === "delete") {
        derived.push({ rule, options: { judges: "stored", extent: { fields: none, act: true, cells } } });
      } else {
        for (const held of cells.heldRanges) {
          const { ranges, except, held: all, heldRanges } = cells;
          const crossed = { rowsOf: new Map([[grid.position, held]]), held: all, heldRanges, ranges, except };
          const extent = { fields: place, act: false, cells: crossed };
          derived.push({ rule, options: { judges: "change", extent, isCrossing: true } });
        }
      }
    }
  }
  return derived;
}
