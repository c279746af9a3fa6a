import type { Ruleset } from "../../rules/ruleset.js";
import type { Field, Schema, Table } from "../../schema/schema.js";
import type { Gate } from "../../session/gate.js";
import type { ChangeGates, TablePlan } from "../../session/plan.js";
import { type Formula, isAlways, isNever, print } from "../formula.js";
import { type Fragment, join, raw, sql } from "../fragment.js";
import type { Scope } from "../scope.js";
import { type Change, type Verdict, verdictOn } from "./change-formula.js";
import { fromSubject, indent, literal, type Schemas, textArray, written } from "./ddl.js";
import type { SubjectView } from "./subject-view.js";

/** What the triggers of one table are written from. */
export interface Writing {
  readonly schema: Schema;
  readonly schemas: Schemas;
  readonly ruleset: Ruleset;
  readonly plan: TablePlan;
  readonly table: Table;
  /** The table's name in the database. */
  readonly source: string;
  readonly subject: SubjectView;
  readonly before: Scope;
  readonly after: Scope;
  /** The fields of the table from which roles come; undefined where none do. */
  readonly bearing: ReadonlySet<Field> | undefined;
}

/** The verdict on fields under the same rules. */
export interface FieldsVerdict extends Verdict {
  readonly fields: readonly string[];
}

/** Fields under the same rules are judged together. */
export function verdictsOf(
  { fields: gates }: ChangeGates,
  fields: readonly Field[],
  change: Change,
  table: Table,
): FieldsVerdict[] {
  const names = new Map<Gate, string[]>();
  for (const field of fields) {
    for (const gate of gates[field.index] as readonly Gate[]) names.set(gate, [...(names.get(gate) ?? []), field.name]);
  }
  return [...names].map(([gate, own]) => ({ ...verdictOn(gate, change, table.grid?.position), fields: own }));
}

/** Lines that collect which of the given fields are refused, with the notes of what refuses them, and what is to be confirmed. */
export function judged(verdicts: readonly FieldsVerdict[], change: Change, writing: Writing): string {
  const refused = (fields: readonly string[]) =>
    `_refused := _refused || array(select f from unnest(_given) f where f = any (${textArray(fields)}));`;
  return verdicts
    .map((verdict) => {
      const { fields } = verdict;
      const never = isNever(verdict.permitted);
      const lines = never ? refused(fields) : verdictLines(verdict, refused(fields), change, writing);
      return `if _given && ${textArray(fields)} then\n${indent(lines)}\nend if;`;
    })
    .join("\n");
}

/** The same for the act as a whole, which is noted as a refused field without a name. */
export function judgedAct(verdict: Verdict, change: Change, writing: Writing): string {
  return verdictLines(verdict, "_refused := _refused || ''::text;", change, writing);
}

function verdictLines(verdict: Verdict, refuse: string, change: Change, { schemas }: Writing): string {
  const collected = (phase: "block" | "confirm", value: (rule: Verdict["applies"][number]) => string | undefined) => {
    const cases = verdict.applies.flatMap((one) => {
      const said = one.placed.step.phase === phase ? value(one) : undefined;
      return said === undefined ? [] : [sql`case when ${print(one.when)} then ${raw(literal(said))}::text end`];
    });
    return cases.length === 0 ? undefined : sql`array_remove(array[${join(cases, ", ")}], null)`;
  };
  const notes = collected("block", ({ placed }) => placed.step.note);
  const asks = collected("confirm", ({ placed }) => placed.step.rule);
  const noteLines =
    notes === undefined ? [] : [selectFrom(notes, change, schemas, "_note"), "_notes := _notes || _note;"];
  const askLines = asks === undefined ? [] : [selectFrom(asks, change, schemas, "_ask"), "_asked := _asked || _ask;"];
  const otherwise = askLines.length === 0 ? "" : `\nelse\n${indent(askLines.join("\n"))}`;
  return `${select(verdict.permitted, change, schemas, "_permitted")}
if _permitted is not true then
${indent([refuse, ...noteLines].join("\n"))}${otherwise}
end if;`;
}

/** Lines that put the truth of a formula about the records into a variable. */
export function select(one: Formula, change: Change, schemas: Schemas, into: string): string {
  return isAlways(one) ? `${into} := true;` : selectFrom(print(one), change, schemas, into);
}

function selectFrom(value: Fragment, change: Change, schemas: Schemas, into: string): string {
  return `select ${written(value)} into ${into}\n  from ${rows(change, schemas)};`;
}

/** The records that a change is judged on, and the current user. */
export function rows({ before, after }: Change, schemas: Schemas): string {
  const tables = [
    ...(before === undefined ? [] : ["(select (_before).*) before"]),
    ...(after === undefined ? [] : ["(select (_after).*) after"]),
    fromSubject(schemas.inside),
  ];
  return tables.join(", ");
}
