import { portierError } from "../../schema/problems.js";
import { keptTablesOf, type Table } from "../../schema/schema.js";
import type { AnyTables, TableTypes } from "../../schema/table-types.js";
import { type Portier, rulesetOf } from "../../session/portier.js";
import { postgres } from "../postgres.js";
import { tableName } from "../where.js";
import { planOfAnybody } from "./anybody.js";
import { AskerView } from "./asker-view.js";
import { admission, cleared, closed, mark, otherDoors, owned, removal } from "./closing.js";
import { literal, Names, qualified } from "./ddl.js";
import { foundation, type Schemas } from "./foundation.js";
import { seenView } from "./seen-view.js";
import { warningsOf } from "./warnings.js";
import { writeTriggers } from "./write-triggers.js";

export interface RowSecurityOptions {
  /** The schema of the views that people and programs use from now on. Default: `portier`. */
  readonly schema?: string;
  /** The schema of the tables that name none. Default: `public`. */
  readonly tables?: string;
  /** Database roles that may use the views. More can be given by the migration's own function `admit`. */
  readonly users?: readonly string[];
  /** Database roles that may, besides, say who asks: the application. */
  readonly applications?: readonly string[];
}

/** A document's rules as scripts for PostgreSQL. */
export interface RowSecurity {
  /** Puts the rules in force, in place of earlier ones; can be run again. One transaction. */
  readonly migration: string;
  /** Takes it all away, and gives back the rights on the tables that were taken. */
  readonly removal: string;
  /** What the document says that row security cannot hold, in sentences. */
  readonly warnings: readonly string[];
}

/**
 * Writes the rules of a document into PostgreSQL (15 and newer), so that they hold for whoever reaches the database.
 *
 * The tables are closed to everybody but their owner. In their place there is a view of the same name and columns in a
 * schema of its own, which shows what the one who asks may list, and judges what is written to it row by row. The
 * application says who asks by `select portier.ask_as('KEY')`, for the rest of its transaction.
 *
 * Run by the owner of the tables. What it cannot hold is told in docs/row-security.md.
 *
 * @throws PortierError where a rule cannot be held by a database.
 */
export function rowSecurity<T extends TableTypes = AnyTables>(
  portier: Portier<T>,
  { schema = "portier", tables = "public", users = [], applications = [] }: RowSecurityOptions = {},
): RowSecurity {
  const ruleset = rulesetOf(portier);
  checkNames([...ruleset.schema.tables.values()], schema, tables);
  const schemas: Schemas = { seen: schema, inside: `${schema}_inside`, tables, names: new Names() };
  const plan = planOfAnybody(ruleset);
  const asker = new AskerView(ruleset, plan, schemas);
  const all = [...ruleset.schema.tables.values()];
  const kept = keptTablesOf(ruleset.schema);
  const views = all.flatMap((table) => [
    ...seenView(plan, table, asker, schemas),
    `comment on view ${qualified(schema, tableName(table.source))} is ${literal(`${mark}what whoever asks may list of ${table.name}.`)}`,
    ...writeTriggers(ruleset.schema, plan, table, asker, schemas),
  ]);
  const statements = [
    "begin",
    "set local search_path = pg_catalog, pg_temp",
    owned([...all, ...kept], schemas),
    ...schemasOf(schemas),
    cleared(schemas),
    ...foundation(schemas, ruleset.schema.people, () => asker.statement()),
    ...views,
    ...closed([...all, ...kept], schemas),
    otherDoors([...all, ...kept], schemas),
    ...admission(schemas),
    ...users.map((role) => `select ${qualified(schemas.inside, "admit")}(${literal(role)})`),
    ...applications.map((role) => `select ${qualified(schemas.inside, "admit")}(${literal(role)}, true)`),
    "commit",
  ];
  return {
    migration: script(statements),
    removal: script(removal(schemas)),
    warnings: warningsOf(ruleset, plan),
  };
}

function script(statements: readonly string[]): string {
  return `${statements.join(";\n\n")};\n`;
}

function schemasOf({ seen, inside }: Schemas): string[] {
  const quote = postgres.quoteName;
  return [
    `create schema if not exists ${quote(seen)}`,
    `create schema if not exists ${quote(inside)}`,
    `revoke all on schema ${quote(inside)} from public`,
  ];
}

/** Each view has the name of its table, in a schema of its own. */
function checkNames(all: readonly Table[], schema: string, tables: string): void {
  const taken = new Map<string, Table>();
  for (const table of all) {
    const { source } = table;
    if (schema === (source.includes(".") ? source.slice(0, source.indexOf(".")) : tables)) {
      const what = `the views would be in the schema of the tables, "${schema}"`;
      throw portierError("wrong-call", { what, hint: "give them a schema of their own" });
    }
    const other = taken.get(tableName(source));
    if (other !== undefined) {
      const what = `the views of "${other.source}" and "${source}" would have one name`;
      throw portierError("wrong-call", { what, hint: "write row security for one schema's tables at a time" });
    }
    taken.set(tableName(source), table);
  }
}
