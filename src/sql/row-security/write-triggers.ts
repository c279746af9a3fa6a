import { knownTree } from "../../rules/action-tree.js";
import { knownBy } from "../../rules/actions.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { roleBearing } from "../../session/roles/bearing.js";
import { conditionFormula } from "../condition.js";
import { formula, implies, isAlways, isNever, print } from "../formula.js";
import { postgres } from "../postgres.js";
import { scopeOf, sourceName } from "../scope.js";
import { shownFormula } from "../shown.js";
import { type Change, isNot, type Verdict, verdictOn } from "./change-formula.js";
import {
  block,
  definerFunction,
  enclosed,
  indent,
  inTrigger,
  literal,
  ofVariable,
  plain,
  qualified,
  type Schemas,
  subjectAlias,
  textArray,
} from "./ddl.js";
import { protectionDeclarations, protectionLines } from "./held-protections.js";
import { judged, judgedAct, testOf, verdictsOf, type Writing } from "./judged.js";
import { references } from "./references.js";
import { noNewRoles, refusedRoles, rolesKept } from "./role-lines.js";
import { seenName, seenNames, shownName } from "./seen-view.js";
import { defaults, standardValue } from "./standard-values.js";
import type { SubjectView } from "./subject-view.js";

const quote = postgres.quoteName;

/**
 * The triggers through which a table's view is written: each row is judged on the record as it is stored, locked, and on
 * what it would become; then the table itself is written, with the rights of its owner. One refused row ends the statement.
 */
export function writeTriggers(
  ruleset: Ruleset,
  plan: Plan,
  table: Table,
  subject: SubjectView,
  schemas: Schemas,
): string[] {
  const { schema } = ruleset;
  const scope = (alias: string) => scopeOf(postgres, { plan }, { table, alias }, subject);
  const writing: Writing = {
    ruleset,
    schema,
    schemas,
    plan: plan.of(table.name),
    table,
    source: sourceName(postgres, table, schemas.tables),
    subject,
    before: scope("_before"),
    after: scope("_after"),
    bearing: roleBearing(ruleset).get(table.name),
  };
  return [
    ...trigger(writing, "insert", insertBody(writing)),
    ...defaults(writing),
    ...trigger(writing, "update", updateBody(writing)),
    ...trigger(writing, "delete", deleteBody(writing)),
  ];
}

function trigger({ schemas, table }: Writing, event: string, body: string): string[] {
  const name = qualified(schemas.inside, schemas.names.of(`${event} ${table.name}`));
  return [
    definerFunction(`${name}() returns trigger`, body, {
      path: `pg_catalog, ${quote(schemas.tables)}, pg_temp`,
    }),
    ...seenNames(schemas, table).map(
      (view) => `create trigger judge_${event} instead of ${event} on ${view} for each row execute function ${name}()`,
    ),
  ];
}

const declarations = `#variable_conflict use_column
declare
  _given text[] := '{}';
  _refused text[] := '{}';
  _missing text[] := '{}';
  _notes text[] := '{}';
  _asked text[] := '{}';
  _fields text[];
  _state text;
  _constraint text;
  _column text;`;

function declarationsOf({ table, schemas, source }: Writing, records: readonly string[]): string {
  const own = [
    `${subjectAlias} ${qualified(schemas.inside, "subject")};`,
    ...records.map((record) => `${record} ${source}%rowtype;`),
  ];
  return `${declarations}${table.grid?.protections ? protectionDeclarations : ""}\n${indent(own.join("\n"))}`;
}

/** Who the current user is: asked once the record is locked, as they may have lost a role while that was waited for. */
function currentUser({ schemas }: Writing): string {
  return `${subjectAlias} := ${qualified(schemas.inside, "me")}();`;
}

/** What people protected as data; `records` are those before and after. */
function protectedCells(
  { ruleset, table, subject, schemas }: Writing,
  records: readonly string[],
  isAct: boolean,
): string[] {
  const { grid } = table;
  if (grid === undefined || !grid.protections) return [];
  const places = records.map((record) => `${record}.${col(grid.position)}`);
  return [protectionLines(ruleset, table, subject, schemas, { places, isAct })];
}

function updateBody(writing: Writing): string {
  const { table, plan, before, after } = writing;
  const change: Change = { before, after };
  const own = table.fields.filter(isOwn);
  const gates = plan.judging("edit");
  const settable = own.filter((field) => gates.fields[field.index]?.every(({ hasPermits }) => hasPermits));
  const sets = settable.map((field) => `${col(field)} = _after.${col(field)}`).join(", ");
  const write = `update ${writing.source} set ${sets} where ${keyIs(table, "old")};`;
  const given = own.map((field) => {
    const kept = `_given := _given || ${literal(field.name)}::text; _after.${col(field)} := new.${col(field)};`;
    return block(`if ${isGiven(field, writing)} then`, [kept], "end if;");
  });
  return body(declarationsOf(writing, ["_before", "_after"]), [
    loadBefore(writing),
    "_after := _before;",
    ...given,
    "if _given = '{}' then return new; end if;",
    ...judged(verdictsOf(gates, own, change, table), writing),
    ...protectedCells(writing, ["_before", "_after"], false),
    ...rolesKept(writing),
    ...references(own, change, writing),
    answer("edit", writing),
    ...(settable.length === 0 ? [] : [shielded(write, writing)]),
    shownAgain(writing, "_after"),
  ]);
}

function insertBody(writing: Writing): string {
  const { table, plan, after, subject } = writing;
  const change: Change = { before: undefined, after };
  const own = table.fields.filter(isOwn);
  // Whoever meets nothing is refused everything; of a stored record they do not even know.
  const met = <V extends Verdict>(one: V): V => ({ ...one, permitted: formula("and", [subject.meets, one.permitted]) });
  const gates = plan.judging("create");
  const acts = gates.acts.map((gate) => met(verdictOn(gate, change, table.grid?.position)));
  const verdicts = verdictsOf(gates, own, change, table).map(met);
  const given = own.map((field) => {
    const standard = standardValue(field, writing, ofVariable);
    const value = `new.${col(field)}`;
    const differs =
      standard === "null"
        ? `${value} is not null`
        : `${comparable(value, field)} is distinct from ${comparable(standard, field)}`;
    return `case when ${differs} then ${literal(field.name)} end`;
  });
  // Fields are mostly under the test of the act.
  const known = new Map(
    acts
      .filter(({ permitted }) => !isNever(permitted) && !isAlways(permitted))
      .map((act, index) => [testOf(act), `_may${index}`]),
  );
  const declared = ["_columns text[];", ...[...known.values()].map((name) => `${name} boolean;`)];
  return body(`${declarationsOf(writing, ["_after"])}\n${indent(declared.join("\n"))}`, [
    currentUser(writing),
    `_given := array_remove(array[${given.join(", ")}], null);`,
    // Judged is what would be stored: a column may round what it is given.
    `select ${own.map((field) => `new.${col(field)}`).join(", ")} into ${own.map((field) => `_after.${col(field)}`).join(", ")};`,
    ...[...known].map(([test, name]) => `${name} := ${enclosed(test)} is true;`),
    ...acts.flatMap((act) => judgedAct(act, known)),
    ...judged(verdicts, writing, known),
    ...protectedCells(writing, ["_after"], true),
    ...noNewRoles(writing),
    ...references(own, change, writing),
    answer("create", writing),
    shielded(insertion(own, writing), writing),
    shownAgain(writing, "_after"),
  ]);
}

function deleteBody(writing: Writing): string {
  const { table, plan, before } = writing;
  const change: Change = { before, after: undefined };
  const acts = plan.judging("delete").acts.map((gate) => verdictOn(gate, change, table.grid?.position));
  return body(declarationsOf(writing, ["_before"]), [
    loadBefore(writing),
    ...acts.flatMap((act) => judgedAct(act)),
    ...protectedCells(writing, ["_before"], true),
    ...(writing.bearing === undefined ? [] : refusedRoles("''::text")),
    answer("delete", writing),
    shielded(`delete from ${writing.source} where ${keyIs(table, "old")};`, writing),
    "return old;",
  ]);
}

function body(declared: string, lines: readonly string[]): string {
  return block(`${declared}\nbegin`, lines, "end");
}

/** Columns that the database fills where nothing is given must not be named then. */
function insertion(own: readonly Field[], { source }: Writing): string {
  const stored = own.filter((field) => !field.computed);
  const generated = stored.filter((field) => field.generated);
  if (generated.length === 0) {
    const values = stored.map((field) => `_after.${col(field)}`).join(", ");
    return `insert into ${source} (${stored.map(col).join(", ")}) values (${values}) returning * into _after;`;
  }
  const always = textArray(stored.filter((field) => !field.generated).map((field) => field.column));
  const more = generated.map(
    (field) =>
      `if _after.${col(field)} is not null then _columns := _columns || ${literal(field.column)}::text; end if;`,
  );
  const format = literal(`insert into ${plain(source)} (%s) select %s from (select ($1).*) r returning *`);
  return `_columns := ${always};
${more.join("\n")}
execute (
  select format(${format}, string_agg(format('%I', name), ', '), string_agg(format('r.%I', name), ', '))
  from unnest(_columns) name
) into _after using _after;`;
}

/** The record as it is stored, locked; a record that is not known is not there. */
function loadBefore(writing: Writing): string {
  const { table, source, subject, plan, before } = writing;
  const known = formula("and", [subject.meets, conditionFormula(conditionOf(plan, knownTree(table)), before)]);
  const lines = [
    `select t.* into _before from ${source} t where ${keyIs(table, "old", "t")} for update;`,
    "if not found then return null; end if;",
    currentUser(writing),
  ];
  // Not by the view of what is known, which would find out once more who the current user is, for each row.
  if (!isAlways(known)) {
    lines.push(block(`if ${enclosed(inTrigger(print(known)))} is not true then`, ["return null;"], "end if;"));
  }
  return lines.join("\n");
}

function keyIs({ key }: Table, record: string, alias?: string): string {
  const prefix = alias === undefined ? "" : `${alias}.`;
  return key.map((field) => `${prefix}${col(field)} = ${record}.${col(field)}`).join(" and ");
}

/** Whether a field is given: it differs from what is seen, or from what is stored where it is opened but not listed. */
function isGiven(field: Field, { plan, before }: Writing): string {
  const isNew = (than: string) =>
    `${comparable(`new.${col(field)}`, field)} is distinct from ${comparable(`${than}.${col(field)}`, field)}`;
  const [list, view] = knownBy.map((action) => shownFormula(plan, action, field, before));
  if (list === undefined || view === undefined || implies(view, list)) return isNew("old");
  const isHidden = inTrigger(print(isNot(formula("or", [list, view]))));
  return `${isNew("old")} and (${isNew("_before")} or ${isHidden})`;
}

function comparable(value: string, field: Field): string {
  return field.type.base === "json" ? `cast(${value} as jsonb)` : value;
}

/** Raises what was refused, is missing or must be confirmed first. */
function answer(action: string, { schemas, table, plan }: Writing): string {
  const what = literal(table.name);
  const notes = new Map<string, string>();
  const { acts, fields } = plan.judging(action);
  for (const { step } of [...acts, ...fields.flat()].flatMap(({ placed }) => placed)) {
    if (step.phase === "confirm") notes.set(step.rule, step.note ?? step.rule);
  }
  const isProtected = table.grid?.protections === true;
  const said = `${literal(JSON.stringify(Object.fromEntries(notes)))}${isProtected ? "::jsonb || _said" : ""}`;
  const confirmed =
    notes.size === 0 && !isProtected
      ? ""
      : `\nif not _asked <@ ${qualified(schemas.inside, "confirmed")}() then
  perform ${qualified(schemas.inside, "unconfirmed")}(${what}, ${literal(action)}, _asked, ${said});
end if;`;
  return `if _refused <> '{}' or _missing <> '{}' then
  perform ${qualified(schemas.inside, "refuse")}(${what}, ${literal(action)}, _refused, _missing, _notes);
end if;${confirmed}`;
}

/** What the database's own constraints say names values that may be hidden: only what kind of error it was goes out. */
function shielded(statement: string, { table, schemas }: Writing): string {
  return `begin
${indent(statement)}
exception when integrity_constraint_violation or data_exception then
  get stacked diagnostics _state = returned_sqlstate, _constraint = constraint_name, _column = column_name;
  perform ${qualified(schemas.inside, "unfit")}(${literal(table.name)}, _state, _constraint, _column);
end;`;
}

/** What is returned is what is then seen; nothing of a record that is not seen any more. */
function shownAgain({ schemas, table }: Writing, record: string): string {
  return `select v.* into new from ${shownName(schemas, table)} v where ${keyIs(table, record, "v")};
if not found then new := jsonb_populate_record(null::${seenName(schemas, table)}, '{}'); end if;
return new;`;
}

function col(field: Field): string {
  return quote(field.column);
}
