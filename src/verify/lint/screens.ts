import type { ActionName } from "../../rules/actions.js";
import type { Rule } from "../../rules/rule.js";
import type { ScreenNeed } from "../../rules/screens.js";
import { type LintInput, nameOf } from "./warnings.js";

/** Permits that no screen uses: nobody can do there what they permit. */
export function unusedPermits({ ruleset, warnings }: LintInput): void {
  const needs = [...ruleset.screens.values()].flatMap((screen) => screen.needs);
  for (const rule of ruleset.rules) {
    if (rule.effect.phase !== "permit") continue;
    const unused = [...rule.extents.keys()].filter((action) => !needs.some((need) => uses(need, rule, action)));
    if (unused.length > 0) warnings.add("permit-without-screen", { rule: nameOf(rule), actions: unused }, rule.path);
  }
}

/** Whether what a screen needs can be met by what a rule permits. What may be viewed may be listed. */
function uses({ table, action, field }: ScreenNeed, rule: Rule, permitted: ActionName): boolean {
  if (table !== rule.table || (action !== permitted && !(action === "list" && permitted === "view"))) return false;
  const extent = rule.extents.get(permitted);
  return field === undefined || extent?.fields.has(field) === true || extent?.act === true;
}
