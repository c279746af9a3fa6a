import type { ActionName } from "../../rules/actions.js";
import { knownBy } from "../../rules/actions.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { isOwn, type Table } from "../../schema/schema.js";
import type { Plan } from "../../session/plan.js";
import { roleBearing } from "../../session/roles/bearing.js";
import { implies } from "../formula.js";
import { postgres } from "../postgres.js";
import { scopeOf } from "../scope.js";
import { shownFormula } from "../shown.js";
import { Names } from "./ddl.js";
import { SubjectView } from "./subject-view.js";

/** Statements of SQL, and the gates on top of them that they cannot be told from. */
const gates: Partial<Record<ActionName, string>> = {
  export: "a select cannot be told from an export: the view shows what may be listed",
  import: "a copy is judged as create",
  bulk: "a change of many rows is checked as an edit of each",
};

/** What a document says that row security cannot hold. */
export function warningsOf(ruleset: Ruleset, plan: Plan): string[] {
  return [...ruleset.schema.tables.values()].flatMap((table) => {
    const warnings: string[] = [];
    for (const [action, sentence] of Object.entries(gates)) {
      // A permit alone lets nothing through that view, create or edit does not.
      const stops = ruleset.of(table.name, action).filter(({ effect }) => effect.phase !== "permit");
      if (stops.length > 0) warnings.push(`${stops.map(({ address }) => address).join(", ")}: ${sentence}`);
    }
    if (table.actions.length > 0) {
      warnings.push(`${table.name}: ${table.actions.join(", ")}: no SQL statement does that; use the library`);
    }
    if (table.observe) {
      warnings.push(`${table.name}: it is observed, which is the library's: behind row security its rules hold`);
    }
    const bearing = roleBearing(ruleset).get(table.name);
    if (bearing !== undefined) {
      const names = [...bearing].map(({ name }) => name).join(", ");
      warnings.push(`${table.name}: ${names}: roles come from it, and no statement of SQL changes who holds what`);
    }
    const opened = openedOnly(table, ruleset, plan);
    if (opened.length > 0) {
      const what = opened.length === table.fields.length ? "records" : opened.join(", ");
      warnings.push(`${table.name}: ${what}: what may be opened but not listed is not in the view`);
    }
    return warnings;
  });
}

/** The fields that somebody may view in a record where they may not list them. */
function openedOnly(table: Table, ruleset: Ruleset, plan: Plan): string[] {
  const overlay = { seen: "", reader: "" };
  const schemas = { seen: "", inside: "", tables: "", reader: "", names: new Names(), overlay, hasOverlay: false };
  const scope = scopeOf(postgres, { plan }, { table, alias: table.name }, new SubjectView(ruleset, plan, schemas));
  const isOpened = (field: Table["fields"][number]) => {
    const [list, view] = knownBy.map((action) => shownFormula(plan.of(table.name), action, field, scope));
    return list !== undefined && view !== undefined && !implies(view, list);
  };
  return table.fields.filter((field) => isOwn(field) && isOpened(field)).map(({ name }) => name);
}
