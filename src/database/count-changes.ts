import type { Ruleset } from "../rules/ruleset.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { type Field, isOwn, keptTablesOf, type Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import { standingFields } from "../session/roles/bearing.js";
import { postgres } from "../sql/postgres.js";
import { sourceName } from "../sql/scope.js";
import type { Connection } from "./connection.js";
import { createState } from "./state.js";

/**
 * The statements that have PostgreSQL count the changes of what anybody may do, whoever makes them: triggers on the fields
 * that roles come from, on those of the current user that rules ask for, and on the tables that Portier keeps. Each is to be
 * run by itself, by the owner of the tables, in the schema in which they are; they can be run again, whenever the rules change.
 * Needed where answers come from a copy of the database: see {@link ReplicaOptions}.
 */
export function replicaMigration<T extends DocumentTypes = AnyDocument>(portier: Portier<T>): string[] {
  return [
    ...createState(postgres, "text"),
    // Nobody who may change a person needs a right on the count, and no table of theirs takes its place.
    `do $portier$
begin
  execute format($function$
    create or replace function portier_count_change() returns trigger
      language plpgsql security definer set search_path = %I, pg_catalog, pg_temp
    as $body$
    begin
      -- Once in a transaction: many rows are one change.
      update portier_state set version = version + 1 where age(xmin) <> 0;
      return null;
    end
    $body$
  $function$, current_schema());
end
$portier$`,
    ...counted(internals(portier).ruleset).flatMap(({ table, columns }) => {
      const name = sourceName(postgres, table);
      return triggersOf(columns).flatMap(({ trigger, when, says }) => [
        `create or replace trigger ${trigger} after ${when(name)} execute function portier_count_change()`,
        `comment on trigger ${trigger} on ${name} is ${postgres.literal(says)}`,
      ]);
    }),
  ];
}

/**
 * Checks that every change is counted.
 *
 * @throws PortierError (`wrong-call`) where a trigger is missing, switched off, or made for other rules.
 */
export async function checkCounting(connection: Connection, ruleset: Ruleset): Promise<void> {
  const found = await connection.query(
    `select tgrelid::text as of_table, tgname || ': ' || coalesce(obj_description(oid, 'pg_trigger'), '') as is_made
from pg_trigger where tgname like 'portier\\_count\\_%' and tgenabled in ('O', 'A')`,
    [],
  );
  const made = new Set(found.map((row) => `${row["of_table"]} ${row["is_made"]}`));
  for (const { table, columns } of counted(ruleset)) {
    const [row] = await connection.query("select to_regclass($1)::oid::text as id", [sourceName(postgres, table)]);
    for (const { trigger, says } of triggersOf(columns)) {
      if (made.has(`${row?.["id"]} ${trigger}: ${says}`)) continue;
      throw portierError("wrong-call", {
        what: `the database does not count the changes of "${table.name}" that these rules ask about`,
        hint: "run the statements of replicaMigration, or portier sql FILE --replica, on the primary",
      });
    }
  }
}

/** What counts of a table. */
interface Counted {
  readonly table: Table;
  /** The columns of which a change counts. That a record is made or gone always does. */
  readonly columns: readonly string[];
}

function counted(ruleset: Ruleset): Counted[] {
  const { schema, sessionOperands } = ruleset;
  const fields = new Map<string, Set<Field>>();
  const add = (field: Field): void => {
    fields.set(field.table, (fields.get(field.table) ?? new Set()).add(field));
    for (const part of [...(field.by ?? []), field.lookup?.through, field.lookup?.field]) if (part) add(part);
  };
  for (const field of standingFields(ruleset)) add(field);
  for (const operand of sessionOperands.all.values()) {
    if (operand.kind === "me") for (const field of operand.path) add(field);
  }
  for (const { fields: own } of keptTablesOf(schema)) for (const field of own) add(field);
  return [...schema.tables.values(), ...keptTablesOf(schema)].flatMap((table) => {
    const columns = [...(fields.get(table.name) ?? [])].filter(isOwn).map(({ column }) => column);
    return columns.length === 0 ? [] : [{ table, columns: columns.sort() }];
  });
}

interface CountingTrigger {
  readonly trigger: string;
  readonly when: (table: string) => string;
  /** What it says of itself: it tells whether it was made for these rules. */
  readonly says: string;
}

function triggersOf(columns: readonly string[]): readonly CountingTrigger[] {
  // As text, since not every type can be compared.
  const changed = columns.map(postgres.quoteName).map((one) => `old.${one}::text is distinct from new.${one}::text`);
  return [
    {
      trigger: "portier_count_rows",
      when: (table) => `insert or delete on ${table} for each row`,
      says: "Portier counts each record.",
    },
    {
      trigger: "portier_count_update",
      when: (table) => `update on ${table} for each row when (${changed.join(" or ")})`,
      says: `Portier counts changes of ${columns.join(", ")}.`,
    },
    {
      trigger: "portier_count_truncate",
      when: (table) => `truncate on ${table} for each statement`,
      says: "Portier counts each time.",
    },
  ];
}
