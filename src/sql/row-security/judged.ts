import type { Ruleset } from "../../rules/ruleset.js";
import type { Field, Schema, Table } from "../../schema/schema.js";
import type { Gate } from "../../session/gate.js";
import type { ChangeGates, TablePlan } from "../../session/plan.js";
import { isAlways, isNever, print } from "../formula.js";
import { join, raw, sql } from "../fragment.js";
import type { Scope } from "../scope.js";
import { type Change, type Verdict, verdictOn } from "./change-formula.js";
import { block, common, enclosed, indent, inTrigger, literal, type Schemas } from "./ddl.js";
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

/**
 * Lines that collect which of the given fields are refused, with the notes of what refuses them, and what is to be confirmed.
 * `known`: tests whose outcome a variable holds.
 */
export function judged(verdicts: readonly FieldsVerdict[], { schemas }: Writing, known?: Known): string[] {
  return verdicts.flatMap((verdict) => {
    const { fields } = verdict;
    const [field] = fields;
    const said = `-- ${fields.join(", ")}: ${verdict.rules}`;
    if (field === undefined || fields.length > 1) {
      const given = `_fields := ${common(schemas, fields)};`;
      return [said, given, ...verdictLines(verdict, { when: "_fields <> '{}'", refused: "_fields", known })];
    }
    const name = literal(field);
    return [said, ...verdictLines(verdict, { when: `${name} = any (_given)`, refused: `${name}::text`, known })];
  });
}

/** The same for the act as a whole, which is noted as a refused field without a name. */
export function judgedAct(verdict: Verdict, known?: Known): string[] {
  return [`-- ${verdict.rules}`, ...verdictLines(verdict, { when: undefined, refused: "''::text", known })];
}

/** The test of a verdict, where more than one line asks it. */
export function testOf({ permitted }: Verdict): string {
  return inTrigger(print(permitted));
}

type Known = ReadonlyMap<string, string> | undefined;

interface Judging {
  /** When it is judged at all. */
  readonly when: string | undefined;
  /** What is refused. */
  readonly refused: string;
  readonly known: Known;
}

function verdictLines(verdict: Verdict, { when, refused, known }: Judging): string[] {
  const collected = (phase: "block" | "confirm", value: (rule: Verdict["applies"][number]) => string | undefined) => {
    const cases = verdict.applies.flatMap((one) => {
      const said = one.placed.step.phase === phase ? value(one) : undefined;
      return said === undefined ? [] : [sql`case when ${print(one.when)} then ${raw(literal(said))}::text end`];
    });
    return cases.length === 0 ? undefined : inTrigger(sql`array_remove(array[${join(cases, ", ")}], null)`);
  };
  const refusal = [`_refused := _refused || ${refused};`];
  const isNeverPermitted = isNever(verdict.permitted);
  const notes =
    isNeverPermitted && when !== undefined ? undefined : collected("block", ({ placed }) => placed.step.note);
  if (notes !== undefined) refusal.push(`_notes := _notes || ${notes};`);
  const asks = collected("confirm", ({ placed }) => placed.step.rule);
  const ask = asks === undefined ? [] : [`_asked := _asked || ${asks};`];
  const judge = (test: string | undefined, lines: readonly string[], ...foot: readonly string[]) => {
    const tests = [when, test].filter((one) => one !== undefined);
    return tests.length === 0 ? lines : [block(`if ${tests.join(" and ")} then`, lines, ...foot, "end if;")];
  };
  if (isNeverPermitted) return [...judge(undefined, refusal)];
  if (isAlways(verdict.permitted)) return ask.length === 0 ? [] : [...judge(undefined, ask)];
  const test = testOf(verdict);
  const isRefused = known?.has(test) ? `not ${known.get(test)}` : `${enclosed(test)} is not true`;
  if (ask.length === 0) return [...judge(isRefused, refusal)];
  return [
    ...judge(undefined, [
      block(`if ${isRefused} then`, refusal, "else", ...ask.map((line) => indent(line)), "end if;"),
    ]),
  ];
}
