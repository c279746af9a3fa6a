import { knownTree } from "../../rules/action-tree.js";
import { knownBy } from "../../rules/actions.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { roleBearing } from "../../session/roles/bearing.js";
import { conditionFormula } from "../condition.js";
import { formula, implies, isAlways, print } from "../formula.js";
import { postgres } from "../postgres.js";
import { scopeOf, sourceName } from "../scope.js";
import { shownFormula } from "../shown.js";
import { isNot } from "./change-formula.js";
import {
  block,
  definerFunction,
  enclosed,
  indent,
  inTrigger,
  literal,
  Names,
  ofVariable,
  plain,
  qualified,
  type Schemas,
  subjectAlias,
  textArray,
  textsLiteral,
  without,
} from "./ddl.js";
import { gateRows, type Judging, judgingOf, metList, theAct, type Writing } from "./gates.js";
import { protectionDeclarations, protectionLines } from "./held-protections.js";
import { references } from "./references.js";
import { noNewRoles, refusedRoles, rolesKept } from "./role-lines.js";
import { seenName, shownName } from "./seen-view.js";
import { defaults, standardValue } from "./standard-values.js";
import type { SubjectView } from "./subject-view.js";

const quote = postgres.quoteName;

/** What the trigger of a table is written from. */
export function writingOf(ruleset: Ruleset, plan: Plan, table: Table, subject: SubjectView, schemas: Schemas): Writing {
  const scope = (alias: string) => scopeOf(postgres, { plan }, { table, alias }, subject);
  return {
    ruleset,
    schema: ruleset.schema,
    schemas,
    plan: plan.of(table.name),
    table,
    source: sourceName(postgres, table, schemas.tables),
    subject,
    before: scope("_before"),
    after: scope("_after"),
    bearing: roleBearing(ruleset).get(table.name),
  };
}

/**
 * The function through which a table's view is written: each row is judged on the record as it is stored, locked, and on what
 * it would become; then the table itself is written, with the rights of its owner. One refused row ends the statement.
 */
export function writeFunction(writing: Writing): string[] {
  const { table, before, after, schemas } = writing;
  const own = table.fields.filter(isOwn);
  const names = new Names();
  const judging = {
    create: judgingOf("create", own, { before: undefined, after }, writing, names),
    edit: judgingOf("edit", own, { before, after }, writing, names),
    delete: judgingOf("delete", [], { before, after: undefined }, writing, names),
  };
  return [
    ...gateRows(writing, judging),
    definerFunction(`${nameOf(writing)}() returns trigger`, body(own, writing, judging), {
      path: `pg_catalog, ${quote(schemas.tables)}, pg_temp`,
    }),
  ];
}

/** Has a view of the table written through it, with the document's defaults. */
export function writable(view: string, writing: Writing): string[] {
  return [
    `create trigger write instead of insert or update or delete on ${view}\n  for each row execute function ${nameOf(writing)}()`,
    ...defaults(view, writing),
  ];
}

function nameOf({ schemas, table }: Writing): string {
  return qualified(schemas.inside, schemas.names.of(`write ${table.name}`));
}

function body(
  own: readonly Field[],
  writing: Writing,
  judging: Readonly<Record<"create" | "edit" | "delete", Judging>>,
) {
  const { table, schemas } = writing;
  const inside = (name: string) => qualified(schemas.inside, name);
  const what = literal(table.name);
  const isProtected = table.grid?.protections === true;
  const missing = references(own, writing);
  const lines = [
    ...loadBefore(writing),
    block(
      "if tg_op = 'INSERT' then",
      inserted(own, writing),
      "elsif tg_op = 'UPDATE' then",
      "  _after := _before;",
      "  _seen := old;",
      "end if;",
    ),
    block(
      "if tg_op <> 'DELETE' then",
      own.map((field) => given(field, writing)),
      "end if;",
    ),
    "if tg_op = 'UPDATE' and _given = '{}' then return new; end if;",
    // Whoever is nobody meets nothing; of a stored record they do not even know.
    block(
      "if tg_op = 'INSERT' and _me.meets then",
      [met(judging.create)],
      "elsif tg_op = 'UPDATE' then",
      indent(met(judging.edit)),
      "elsif tg_op = 'DELETE' then",
      indent(met(judging.delete)),
      "end if;",
    ),
    `select j.* into _refused, _blocked, _asked from ${inside("judge")}(${what}, _action, _given, _met) j;`,
    ...protectedCells(writing),
    ...heldRoles(writing),
    ...(missing.length === 0
      ? []
      : [
          block(
            "if tg_op <> 'DELETE' then",
            [`if _refused <> '{}' then _given := ${without(schemas, "_given", "_refused")}; end if;`, ...missing],
            "end if;",
          ),
        ]),
    block(
      "if _refused <> '{}' or _missing <> '{}' then",
      [`perform ${inside("refuse")}(${what}, _action, _refused, _missing, _blocked, _notes);`],
      "end if;",
    ),
    block(
      `if _asked <> '{}' and not _asked <@ ${inside("confirmed")}() then`,
      [`perform ${inside("unconfirmed")}(${what}, _action, _asked, ${isProtected ? "_said" : "'{}'"});`],
      "end if;",
    ),
    written(own, writing),
    "if tg_op = 'DELETE' then return old; end if;",
    shownAgain(writing),
  ];
  return block(`${declarations(writing)}\nbegin`, lines, "end");
}

function declarations({ table, schemas, source }: Writing): string {
  const hasGenerated = table.fields.some((field) => isOwn(field) && field.generated);
  return `#variable_conflict use_column
declare
  _action text := case tg_op when 'INSERT' then 'create' when 'UPDATE' then 'edit' else 'delete' end;
  -- The act itself is a field without a name.
  _given text[] := case tg_op when 'UPDATE' then '{}' else ${textsLiteral([theAct])} end;
  _met text[] := '{}';
  _refused text[]; _blocked text[]; _asked text[];
  _missing text[] := '{}'; _notes text[] := '{}';
  _state text; _constraint text; _column text;${hasGenerated ? "\n  _columns text[];" : ""}${table.grid?.protections ? protectionDeclarations : ""}
  ${subjectAlias} ${qualified(schemas.inside, "subject")};
  _seen ${seenName(schemas, table)}%rowtype;
  _before ${source}%rowtype;
  _after ${source}%rowtype;`;
}

/**
 * The record as it is stored, locked; a record that is not known is not there. Only then is it asked who the current user is: they
 * may have lost a role while the lock was waited for.
 */
function loadBefore(writing: Writing): string[] {
  const { table, source, subject, schemas, plan, before } = writing;
  const known = formula("and", [subject.meets, conditionFormula(conditionOf(plan, knownTree(table)), before)]);
  const isKnown = isAlways(known)
    ? []
    : [
        block(
          `if tg_op <> 'INSERT' and ${enclosed(inTrigger(print(known)))} is not true then`,
          ["return null;"],
          "end if;",
        ),
      ];
  const load = [
    `select t.* into _before from ${source} t where ${keyIs(table, "old", "t")} for update;`,
    "if not found then return null; end if;",
  ];
  return [
    block("if tg_op <> 'INSERT' then", load, "end if;"),
    `${subjectAlias} := ${qualified(schemas.inside, "me")}();`,
    // Not by the view of what is known, which would find out once more who the current user is, for each row.
    ...isKnown,
  ];
}

/** What a new record holds where nothing is given. */
function inserted(own: readonly Field[], writing: Writing): string[] {
  const lines = own.flatMap((field) => {
    const standard = standardValue(field, writing, ofVariable);
    return standard === "null"
      ? []
      : [`_seen.${col(field)} := ${standard}; _after.${col(field)} := new.${col(field)};`];
  });
  return lines.length === 0 ? ["null;"] : lines;
}

/**
 * Whether a field is given: it differs from what is seen, or from what is stored where it is opened but not listed. Judged is
 * what would be stored: a column may round what it is given.
 */
function given(field: Field, { plan, before }: Writing): string {
  const isNew = (than: string) =>
    `${comparable(`new.${col(field)}`, field)} is distinct from ${comparable(`${than}.${col(field)}`, field)}`;
  const [list, view] = knownBy.map((action) => shownFormula(plan, action, field, before));
  const isSeen = list === undefined || view === undefined || implies(view, list);
  const isHidden = isSeen ? "" : inTrigger(print(isNot(formula("or", [list, view]))));
  const more = isSeen ? "" : ` and (tg_op = 'INSERT' or ${isNew("_before")} or ${isHidden})`;
  return `if ${isNew("_seen")}${more} then _given := _given || text ${literal(field.name)}; _after.${col(field)} := new.${col(field)}; end if;`;
}

function met(judging: Judging): string {
  return `_met := ${metList(judging)};`;
}

/** What people protected as data. */
function protectedCells(writing: Writing): string[] {
  const { ruleset, table, subject, schemas } = writing;
  const { grid } = table;
  if (grid === undefined || !grid.protections) return [];
  const lines = (records: readonly string[], isAct: boolean) => {
    const places = records.map((record) => `${record}.${col(grid.position)}`);
    return protectionLines(ruleset, table, subject, schemas, { places, isAct });
  };
  return [
    block(
      "if tg_op = 'INSERT' then",
      [lines(["_after"], true)],
      "elsif tg_op = 'UPDATE' then",
      indent(lines(["_before", "_after"], false)),
      "else",
      indent(lines(["_before"], true)),
      "end if;",
    ),
  ];
}

/** No view changes who holds a role. */
function heldRoles(writing: Writing): string[] {
  if (writing.bearing === undefined) return [];
  return [
    block(
      "if tg_op = 'INSERT' then",
      noNewRoles(writing),
      "elsif tg_op = 'UPDATE' then",
      ...rolesKept(writing).map((line) => indent(line)),
      "else",
      ...refusedRoles("''::text").map((line) => indent(line)),
      "end if;",
    ),
  ];
}

/** What the database's own constraints say names values that may be hidden: only what kind of error it was goes out. */
function written(own: readonly Field[], writing: Writing): string {
  const { table, schemas, source, plan } = writing;
  const { fields } = plan.judging("edit");
  const settable = own.filter((field) => fields[field.index]?.every(({ hasPermits }) => hasPermits));
  const sets = settable.map((field) => `${col(field)} = _after.${col(field)}`).join(", ");
  const update = settable.length === 0 ? "null;" : `update ${source} set ${sets} where ${keyIs(table, "old")};`;
  return `begin
  if tg_op = 'INSERT' then
${indent(insertion(own, writing), "    ")}
  elsif tg_op = 'UPDATE' then
    ${update}
  else
    delete from ${source} where ${keyIs(table, "old")};
  end if;
exception when integrity_constraint_violation or data_exception then
  get stacked diagnostics _state = returned_sqlstate, _constraint = constraint_name, _column = column_name;
  perform ${qualified(schemas.inside, "unfit")}(${literal(table.name)}, _state, _constraint, _column);
end;`;
}

/** What is returned is what is then seen; nothing of a record that is not seen any more. */
function shownAgain({ schemas, table }: Writing): string {
  return `select v.* into new from ${shownName(schemas, table)} v where ${keyIs(table, "_after", "v")};
if not found then new := jsonb_populate_record(null::${seenName(schemas, table)}, '{}'); end if;
return new;`;
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

function keyIs({ key }: Table, record: string, alias?: string): string {
  const prefix = alias === undefined ? "" : `${alias}.`;
  return key.map((field) => `${prefix}${col(field)} = ${record}.${col(field)}`).join(" and ");
}

function comparable(value: string, field: Field): string {
  return field.type.base === "json" ? `cast(${value} as jsonb)` : value;
}

function col(field: Field): string {
  return quote(field.column);
}
