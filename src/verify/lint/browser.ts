import {
  type Expression,
  isOfAnyRecord,
  operandsWithin,
  personConditions,
  visitTests,
} from "../../conditions/expression.js";
import type { Field } from "../../schema/schema.js";
import { type LintInput, nameOf } from "./warnings.js";

/**
 * Rules that a browser cannot answer from a snapshot alone: they read other records for each one that is asked about. What
 * is the same for every record is decided before the snapshot is sent.
 */
export function serversRules({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    const related = [...rule.to, ...rule.except].flatMap((who) => (who.kind === "related" ? [who.met] : []));
    const conditions = [...related, rule.where, ...(rule.becomes === undefined ? [] : [rule.becomes])];
    const tables = new Set(conditions.flatMap(tablesRead));
    if (tables.size > 0) warnings.add("needs-server", { rule: nameOf(rule), tables: [...tables] }, rule.path);
  }
}

/** The tables whose records a condition reads for each record that it is asked of. */
function tablesRead(condition: Expression): string[] {
  const names: string[] = [];
  visitTests(condition, (test) => {
    if (test.kind === "above" || test.kind === "line") names.push(test.line.table);
    if (test.kind === "person") names.push(test.people);
    for (const ofPerson of personConditions(test)) names.push(...tablesRead(ofPerson));
    if (test.kind === "exists" && !isOfAnyRecord(test)) names.push(test.table, ...tablesRead(test.condition));
    if (test.kind === "may" && (test.key.kind === "field" || test.key.kind === "outer")) names.push(test.target);
    for (const operand of operandsWithin(test)) {
      if (operand.kind === "field") names.push(...operand.path.slice(1).map((field: Field) => field.table));
    }
  });
  return names;
}
