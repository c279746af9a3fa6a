import { describeExpression } from "../../conditions/describe.js";
import { type Expression, type Operand, operandsOf, visitTests } from "../../conditions/expression.js";
import type { Path } from "../../schema/problems.js";
import { lastOf, type Schema } from "../../schema/schema.js";
import { type LintInput, nameOf } from "./warnings.js";

/** Keys of records that are written into rules and groups: they are others in the next environment. */
export const keyChecks = [keysInRules, keysInGroups];

function keysInRules(input: LintInput): void {
  for (const rule of input.ruleset.rules) {
    const where = { kind: "rule", name: nameOf(rule) } as const;
    for (const { text } of [...rule.to, ...rule.except]) {
      if (/^person\s/.test(text)) input.warnings.add("person-in-rule", { ...where, entry: text }, rule.path);
    }
    for (const condition of [rule.where, rule.becomes]) warningKeys(input, condition, where, rule.path);
  }
}

function keysInGroups(input: LintInput): void {
  for (const group of input.ruleset.groups.values()) {
    const where = { kind: "group", name: group.name } as const;
    const path = ["groups", group.name];
    for (const member of [...group.members, ...group.without]) {
      if (member.kind === "person" || member.kind === "along") {
        input.warnings.add("person-in-rule", { ...where, entry: member.text }, path);
      }
      if (member.kind === "where") warningKeys(input, member.condition, where, path);
    }
    warningKeys(input, group.where, where, path);
  }
}

function warningKeys(
  { ruleset, warnings }: LintInput,
  condition: Expression | undefined,
  where: { readonly kind: "rule" | "group"; readonly name: string },
  path: Path,
): void {
  const { schema } = ruleset;
  for (const { table, entry } of condition === undefined ? [] : keysNamed(condition, schema)) {
    if (table === schema.people?.table.name) warnings.add("person-in-rule", { ...where, entry }, path);
    else warnings.add("record-in-rule", { ...where, table, entry }, path);
  }
}

interface Named {
  readonly table: string;
  readonly entry: string;
}

/** The tests of a condition that compare a reference, a list of them, or a record's own key with a fixed value. */
function keysNamed(condition: Expression, schema: Schema): Named[] {
  const named: Named[] = [];
  visitTests(condition, (test) => {
    if (test.kind === "exists") named.push(...keysNamed(test.condition, schema));
    if (test.kind !== "compare" && test.kind !== "in" && test.kind !== "in-list") return;
    if (test.kind === "compare" && test.op !== "=" && test.op !== "<>") return;
    const operands = operandsOf(test);
    if (!operands.some((operand) => operand.kind === "constant" && operand.value !== null)) return;
    const tables = operands.flatMap((operand) => keyedTable(operand, schema) ?? []);
    for (const table of new Set(tables)) named.push({ table, entry: describeExpression(test) });
  });
  return named;
}

/** The table whose keys an operand holds. */
function keyedTable(operand: Operand, schema: Schema): string | undefined {
  if (operand.kind === "constant") return undefined;
  const target = operand.type.target ?? operand.type.element?.target;
  if (target !== undefined || !("path" in operand)) return target;
  const field = lastOf(operand.path);
  const key = schema.tables.get(field.table)?.key ?? [];
  return key.length === 1 && key[0] === field ? field.table : undefined;
}
