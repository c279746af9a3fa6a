import type { Ruleset } from "../../rules/ruleset.js";
import type { Field, Schema, Table } from "../../schema/schema.js";
import type { Gate, PlacedStep } from "../../session/gate.js";
import type { TablePlan } from "../../session/plan.js";
import { isAlways, isNever, print } from "../formula.js";
import type { Scope } from "../scope.js";
import { appliesTo, type Change } from "./change-formula.js";
import { enclosed, inTrigger, literal, type Names, ownFunction, qualified, type Schemas, textsLiteral } from "./ddl.js";
import type { SubjectView } from "./subject-view.js";

/** What the trigger of one table is written from. */
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

/** What the act as a whole is called among fields. */
export const theAct = "";

/** Some fields of a table for one action, or the act itself, and the rules that decide on it by name. */
export interface GateRow {
  readonly fields: string[];
  readonly permit: readonly string[];
  readonly block: readonly string[];
  readonly confirm: readonly string[];
}

/** A rule, and when it is met in a trigger. */
export interface MetRule {
  /** The rule's name without that of its table; with a number where it is met in several ways. */
  readonly name: string;
  /** Its address: `objects/keepers-work-in-their-department`. */
  readonly rule: string;
  readonly note: string | undefined;
  /** The fields that it decides on. */
  readonly fields: Set<string>;
  readonly test: string;
}

/** How one action is judged. */
export interface Judging {
  readonly gates: readonly GateRow[];
  readonly met: readonly MetRule[];
}

/** The rules of one action, each once, and what they decide on. `names`: those of the table's rules. */
export function judgingOf(
  action: string,
  own: readonly Field[],
  change: Change,
  { plan, table }: Writing,
  names: Names,
): Judging {
  const { acts, fields: byField } = plan.judging(action);
  const gates = new Map<Gate, string[]>();
  const add = (gate: Gate, name: string) => gates.set(gate, [...(gates.get(gate) ?? []), name]);
  for (const gate of acts) add(gate, theAct);
  for (const field of own) for (const gate of byField[field.index] ?? []) add(gate, field.name);

  const met = new Map<string, MetRule>();
  const ways = new Map<string, number>();
  const nameOf = ({ step }: PlacedStep, test: string, fields: readonly string[]): string => {
    const id = JSON.stringify([step.rule, step.phase, test]);
    const known = met.get(id);
    if (known !== undefined) {
      for (const field of fields) known.fields.add(field);
      return known.name;
    }
    const way = (ways.get(step.rule) ?? 0) + 1;
    ways.set(step.rule, way);
    const own = step.rule.startsWith(`${table.name}/`) ? step.rule.slice(table.name.length + 1) : step.rule;
    const name = names.of(way === 1 ? own : `${own} ${way}`, `${way} ${step.rule}`);
    met.set(id, { name, rule: step.rule, note: step.note, fields: new Set(fields), test });
    return name;
  };
  const rows = [...gates].map(([gate, fields]): GateRow => {
    const of = { permit: new Set<string>(), block: new Set<string>(), confirm: new Set<string>() };
    for (const placed of gate.placed) {
      const when = appliesTo(placed, change, table.grid?.position);
      if (isNever(when)) continue;
      const test = isAlways(when) ? "true" : inTrigger(print(when));
      of[placed.step.phase].add(nameOf(placed, test, fields));
    }
    return { fields, permit: [...of.permit], block: [...of.block], confirm: [...of.confirm] };
  });
  return { gates: rows, met: [...met.values()] };
}

/** The names of the rules that are met, as a list. */
export function metList({ met, gates }: Judging): string {
  const all = new Set(gates.flatMap(({ fields }) => fields));
  const cases = met.map(({ name, fields, test }) => {
    // What asks other records, or may fail, is asked only where it is about something that is given.
    const isCostly = /\bselect\b|fault/.test(test) && fields.size < all.size;
    if (isCostly)
      return `case when _given && ${textsLiteral([...fields])} and ${enclosed(test)} then ${literal(name)} end`;
    return test === "true" ? literal(name) : `case when ${test} then ${literal(name)} end`;
  });
  return cases.length === 0 ? "'{}'" : `array_remove(array[\n${cases.map((one) => `  ${one}`).join(",\n")}], null)`;
}

/** What decides on what, as tables: judged by, and read by whoever owns the tables. */
export function gateTables({ inside }: Schemas): string[] {
  const at = (name: string) => qualified(inside, name);
  return [
    `create table ${at("notes")} (of_table text, name text, rule text not null, note text, primary key (of_table, name))`,
    `comment on table ${at("notes")} is 'What people are told of a rule, and its address where that is not the table and the name.'`,
    `create table ${at("gates")} (of_table text, action text, fields text[], permit text[], block text[], confirm text[])`,
    `comment on table ${at("gates")} is ${literal(
      "Which rules decide on fields, or on the act itself: a field without a name.",
    )}`,
    `create index on ${at("gates")} (of_table, action)`,
    ownFunction(
      `${at("judge")}(what text, act text, given text[], met text[], out refused text[], out blocked text[], out asked text[])`,
      `declare
  gate record;
  opened text[] := '{}';
begin
  refused := '{}'; blocked := '{}'; asked := '{}';
  for gate in select g.* from ${at("gates")} g where g.of_table = what and g.action = act and g.fields && given loop
    if gate.permit && met and not gate.block && met then
      opened := opened || gate.fields;
      if gate.confirm && met then asked := asked || ${at("common")}(met, gate.confirm); end if;
    else
      refused := refused || ${at("common")}(given, gate.fields);
      blocked := blocked || ${at("common")}(met, gate.block);
    end if;
  end loop;
  -- What no gate is about is not open.
  if not given <@ (opened || refused) then refused := refused || ${at("without")}(given, opened || refused); end if;
  if asked <> '{}' then
    asked := array(select coalesce(n.rule, what || '/' || a.name)
      from unnest(asked) a(name) left join ${at("notes")} n on n.of_table = what and n.name = a.name);
  end if;
end`,
      "stable",
    ),
  ];
}

/** What one table says in them. */
export function gateRows({ table, schemas }: Writing, judging: Readonly<Record<string, Judging>>): string[] {
  const rules = new Map(Object.values(judging).flatMap(({ met }) => met.map((one) => [one.name, one] as const)));
  const gates = Object.entries(judging).flatMap(([action, { gates: rows }]) =>
    rows.map(({ fields, permit, block, confirm }) => {
      const lists = [fields, permit, block, confirm].map(textsLiteral);
      return `(${[literal(table.name), literal(action), ...lists].join(", ")})`;
    }),
  );
  const named = [...rules.values()].flatMap(({ name, rule, note }) =>
    note === undefined && rule === `${table.name}/${name}`
      ? []
      : [`(${[table.name, name, rule, note].map(literal).join(", ")})`],
  );
  const insert = (into: string, rows: readonly string[]) =>
    rows.length === 0 ? [] : [`insert into ${qualified(schemas.inside, into)} values\n  ${rows.join(",\n  ")}`];
  return [...insert("notes", named), ...insert("gates", gates)];
}
