import { isContradiction } from "../../conditions/contradiction.js";
import { describeExpression } from "../../conditions/describe.js";
import { type Expression, visitOperands } from "../../conditions/expression.js";
import { specialize } from "../../conditions/specialize.js";
import { False } from "../../conditions/truth.js";
import type { ActionName } from "../../rules/actions.js";
import { originalOf } from "../../rules/copies.js";
import type { Extent, Rule, Who } from "../../rules/rule.js";
import type { Schema } from "../../schema/schema.js";
import { type LintInput, nameOf } from "./warnings.js";

/** Rules that change nothing. */
export const effectChecks = [
  emptyExtents,
  conditionNeverTrue,
  forNobody,
  alwaysDenied,
  nullComparisons,
  differingCopies,
];

function emptyExtents({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    for (const [action, extent] of rule.extents) {
      if (extent.act || extent.fields.size > 0) continue;
      warnings.add("permit-covers-no-field", { rule: nameOf(rule), action }, rule.path);
    }
  }
}

function conditionNeverTrue({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    const conditions = [rule.where, rule.becomes].map((one) => one && specialize(one, (operand) => operand));
    // A permit that is at best unknown is never met either; what blocks or asks applies when it is unknown.
    const isLost = (one: Expression) =>
      rule.effect.phase === "permit" ? isContradiction(one) : one.kind === "truth" && one.value === False;
    if (!conditions.some((one) => one !== undefined && isLost(one))) continue;
    warnings.add("condition-never-true", { rule: nameOf(rule) }, rule.path);
  }
}

function nullComparisons({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    const conditions = [rule.where, rule.becomes].filter((one) => one !== undefined);
    if (conditions.some(comparesWithNull)) warnings.add("null-comparison", { rule: nameOf(rule) }, rule.path);
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

/** Copies that are not the same any more, but for whom they are for. */
function differingCopies({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    if (rule.copyOf === undefined || originalOf(rule, ruleset.rules) !== undefined) continue;
    warnings.add("copy-differs", { rule: nameOf(rule), of: rule.copyOf }, [...rule.path, "copyOf"]);
  }
}

/** Rules of which `except` takes everybody out again. */
function forNobody({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    const out = new Set(rule.except.map(({ text }) => text));
    const isOut = ({ kind, text }: Who) =>
      out.has("anyone") || out.has(text) || (kind !== "anyone" && out.has("signed-in"));
    if (out.size === 0 || !rule.to.every(isOut)) continue;
    warnings.add("empty-audience", { rule: nameOf(rule), entries: [...out] }, rule.path);
  }
}

/** Permits of which an action is stopped as a whole, whenever it would be permitted, by one and the same block. */
function alwaysDenied({ ruleset, warnings }: LintInput): void {
  for (const permit of ruleset.rules.filter(({ effect }) => effect.phase === "permit")) {
    for (const [action, extent] of permit.extents) {
      const block = ruleset
        .of(permit.table.name, action)
        .find((rule) => rule.effect.phase === "block" && swallows(rule, permit, action, extent, ruleset.schema));
      if (block === undefined) continue;
      const fields = extent.act ? [] : [...extent.fields].map(({ name }) => name);
      const facts = { rule: nameOf(permit), by: nameOf(block), effect: block.effect.name, action, fields };
      warnings.add("always-denied", facts, permit.path);
    }
  }
}

function swallows(block: Rule, permit: Rule, action: ActionName, extent: Extent, schema: Schema): boolean {
  const covered = block.extents.get(action);
  const isTimed = block.from !== undefined || block.until !== undefined;
  const isNever = block.where.kind === "truth" && block.where.value === False;
  if (covered === undefined || block.except.length > 0 || block.becomes !== undefined || isTimed || isNever)
    return false;
  if (covered.cells !== undefined || (extent.act && !covered.act)) return false;
  if (![...extent.fields].every((field) => covered.fields.has(field))) return false;
  const isForAll = permit.to.every((who) => isStopped(block, who, schema));
  return isForAll && demands(block.where).every((one) => demands(permit.where).includes(one));
}

/** Whether a block stops everybody whom an entry of a permit is for, as far as names can tell. */
function isStopped({ to, effect }: Rule, who: Who, { roles }: Schema): boolean {
  const names = new Set(who.kind === "member" ? (roles.get(who.name)?.closure ?? [who.name]) : [who.text]);
  const isNamed = to.some(({ text }) => names.has(text));
  if (effect.name !== "reserve") return isNamed || to.some(({ kind }) => kind === "anyone");
  // A reserve stops those it is not for; of a group, or of who stands in some relation to a record, that is not known.
  const isKnown = (one: Who) => one.kind === "anyone" || (one.kind === "member" && roles.has(one.name));
  return (
    !isNamed && isKnown(who) && who.kind === "member" && to.every(isKnown) && to.every((one) => one.kind === "member")
  );
}

/** What a condition demands one by one; a condition that is always met demands nothing. */
function demands(condition: Expression): string[] {
  if (condition.kind === "truth") return [];
  return condition.kind === "and" ? condition.terms.map(describeExpression) : [describeExpression(condition)];
}
