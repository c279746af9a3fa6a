import type { AnyDocument, DocumentTypes } from "../../schema/document-types.js";
import { portierError } from "../../schema/problems.js";
import { keptTablesOf, type Table } from "../../schema/schema.js";
import { internals } from "../../session/internals.js";
import type { Portier } from "../../session/portier.js";
import { postgres } from "../postgres.js";
import { tableName } from "../where.js";
import { planOfAnybody } from "./anybody.js";
import { admission, cleared, closed, otherDoors, owned, removal, withoutOverlay } from "./closing.js";
import {
  dollars,
  isKeptWhole,
  isShownAlias,
  literal,
  mark,
  Names,
  qualified,
  type Schemas,
  subjectAlias,
} from "./ddl.js";
import { foundation, setPerson } from "./foundation.js";
import { protectionFunctions } from "./held-protections.js";
import { laidOut } from "./layout.js";
import { overlayFunctions, plannedSettings } from "./overlay.js";
import { makeReaders } from "./reader.js";
import { plannedPolicy, ReadersView, rowPolicies } from "./row-policy.js";
import { knownView, plannedName, plannedView, seenName, seenView, shownView } from "./seen-view.js";
import { SubjectView } from "./subject-view.js";
import { warningsOf } from "./warnings.js";
import { writable, writeFunction, writingOf } from "./write-triggers.js";

/** How row security is written. */
export interface RowSecurityOptions {
  /** The schema of the views that people and programs use from now on. Default: `portier`. */
  readonly schema?: string;
  /** The schema of the tables that name none. Default: `public`. */
  readonly tables?: string;
  /**
   * The database role with whose rights the views read records. It is made where it is not there, which needs the right
   * to make roles; otherwise the owner of the tables must be a member of it. Default: `portier_reader`, by the schema's name.
   */
  readonly reader?: string;
  /**
   * Leaves out the views for applications whose statements are planned for the current user. They are in the schema of the
   * views with `_app` behind it, and read with the rights of a database role of their own. Default: false.
   */
  readonly withoutOverlay?: boolean;
  /** Database roles that may use the views. More can be given by the migration's own function `admit`. */
  readonly users?: readonly string[];
  /** Database roles that may, besides, set the current user: the application. */
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
 * schema of its own, which shows what the current user may list, and judges what is written to it row by row. The
 * application says who the current user is by `select portier.set_person('KEY')`, for the rest of its transaction.
 *
 * Run by the owner of the tables. What it cannot hold is told in docs/row-security.md.
 *
 * @throws PortierError where a rule cannot be held by a database.
 */
export function rowSecurity<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  {
    schema = "portier",
    tables = "public",
    reader = `${schema}_reader`,
    withoutOverlay: isBare = false,
    users = [],
    applications = [],
  }: RowSecurityOptions = {},
): RowSecurity {
  const ruleset = internals(portier).ruleset;
  const schemas: Schemas = {
    seen: schema,
    inside: `${schema}_internal`,
    tables,
    reader,
    names: new Names(),
    overlay: { seen: `${schema}_app`, reader: `${reader}_app` },
    hasOverlay: !isBare,
  };
  checkNames([...ruleset.schema.tables.values()], schemas);
  const plan = planOfAnybody(ruleset);
  const subject = new SubjectView(ruleset, plan, schemas);
  const all = [...ruleset.schema.tables.values()];
  const kept = keptTablesOf(ruleset.schema);
  const readers = new ReadersView(subject, schemas);
  const sourceOf = (table: Table) => subject.sourceOf(table);
  const policies = all.flatMap((table) => rowPolicies(plan, table, sourceOf(table), readers, schemas));
  const writings = new Map(all.map((table) => [table, writingOf(ruleset, plan, table, subject, schemas)]));
  const describe = (view: string, { name }: Table) =>
    `comment on view ${view} is ${literal(`${mark}what the current user may list of ${name}.`)}`;
  const views = [...writings].flatMap(([table, writing]) =>
    titled(`${table.name}: what is seen of it, which rules decide on a change, and how it is written.`, [
      seenView(plan, table, sourceOf(table), readers, schemas),
      describe(seenName(schemas, table), table),
      shownView(plan, table, subject, schemas),
      knownView(plan, table, subject, schemas),
      ...writeFunction(writing),
      ...writable(seenName(schemas, table), writing),
    ]),
  );
  const plannedViews = [...writings].flatMap(([table, writing]) => {
    const name = plannedName(schemas, table);
    return [
      plannedView(plan, table, sourceOf(table), readers, schemas),
      describe(name, table),
      ...writable(name, writing),
      plannedPolicy(plan, table, sourceOf(table), readers, schemas),
    ];
  });
  const asksOthers = readers.statements().length > 0;
  const overlay = isBare
    ? []
    : titled("The overlay: views for the application, whose statements are planned for the current user.", [
        `create schema if not exists ${postgres.quoteName(schemas.overlay.seen)}`,
        ...overlayFunctions(schemas, subject),
        ...plannedViews,
        setPerson(schemas, asksOthers, plannedSettings(subject)).replace(/^create/, "create or replace"),
        ...overlayHandedOver(all, schemas),
      ]);
  const statements = [
    "begin",
    "set local search_path = pg_catalog, pg_temp",
    owned([...all, ...kept], schemas),
    makeReaders(schemas.hasOverlay ? [reader, schemas.overlay.reader] : [reader]),
    ...schemasOf(schemas),
    cleared(schemas),
    ...(schemas.hasOverlay ? [] : withoutOverlay(schemas)),
    ...titled(
      "The current user, and what all tables share.",
      foundation(schemas, ruleset.schema.people, asksOthers, subject),
    ),
    ...protectionFunctions(ruleset, schemas),
    ...readers.statements(),
    ...views,
    ...handedOver(all, schemas),
    ...titled("The tables are closed, but for what the policies let through.", closed([...all, ...kept], schemas)),
    ...policies,
    ...overlay,
    ...titled("Who may use it, and what lets past it.", [
      otherDoors([...all, ...kept], schemas),
      ...admission(schemas),
    ]),
    ...users.map((role) => admitted(role, false, schemas)),
    ...applications.map((role) => admitted(role, true, schemas)),
    "commit",
  ];
  return {
    migration: script(statements),
    removal: script(removal(schemas)),
    warnings: warningsOf(ruleset, plan),
  };
}

function script(statements: readonly string[]): string {
  return laidOut(`${statements.join(";\n\n")};\n`);
}

/** Lets a role in, without a row that says nothing. */
function admitted(role: string, setsPerson: boolean, { inside }: Schemas): string {
  return `do ${dollars(`begin\n  perform ${qualified(inside, "admit")}(${literal(role)}${setsPerson ? ", true" : ""});\nend`)}`;
}

/** Statements below a heading. */
function titled(heading: string, [first = "", ...rest]: readonly string[]): string[] {
  return [`-- ${heading}\n\n${first}`, ...rest];
}

function schemasOf({ seen, inside }: Schemas): string[] {
  const quote = postgres.quoteName;
  return [
    `create schema if not exists ${quote(seen)}`,
    `create schema if not exists ${quote(inside)}`,
    `revoke all on schema ${quote(inside)} from public`,
  ];
}

/** The views that people use have the rights of the reader, to whom the policies are. */
function handedOver(all: readonly Table[], schemas: Schemas): string[] {
  const [seen, inside, reader] = [schemas.seen, schemas.inside, schemas.reader].map(postgres.quoteName);
  return [
    `grant create on schema ${seen}, ${inside} to ${reader}`,
    ...all.map((table) => `alter view ${seenName(schemas, table)} owner to ${reader}`),
    `alter function ${inside}.rls_active(regclass) owner to ${reader}`,
    `revoke create on schema ${seen}, ${inside} from ${reader}`,
  ];
}

function overlayHandedOver(all: readonly Table[], schemas: Schemas): string[] {
  const [seen, inside, reader] = [schemas.overlay.seen, schemas.inside, schemas.overlay.reader].map(postgres.quoteName);
  return [
    `grant usage on schema ${postgres.quoteName(schemas.seen)} to ${reader}`,
    `grant create on schema ${seen}, ${inside} to ${reader}`,
    ...all.map((table) => `alter view ${plannedName(schemas, table)} owner to ${reader}`),
    `alter function ${inside}.planned(regclass) owner to ${reader}`,
    `revoke create on schema ${seen}, ${inside} from ${reader}`,
  ];
}

/** Each view has the name of its table, in a schema of its own. */
function checkNames(all: readonly Table[], { seen, inside, tables, overlay }: Schemas): void {
  for (const name of [inside, overlay.reader]) {
    if (isKeptWhole(name)) continue;
    throw portierError("wrong-call", {
      what: `PostgreSQL keeps 63 bytes of a name, not all of "${name}"`,
      hint: "choose a shorter one",
    });
  }
  const taken = new Map<string, Table>();
  for (const table of all) {
    const { source } = table;
    if ([seen, overlay.seen].includes(source.includes(".") ? source.slice(0, source.indexOf(".")) : tables)) {
      const what = `the views would be in the schema of the tables, "${seen}"`;
      throw portierError("wrong-call", { what, hint: "give them a schema of their own" });
    }
    if ([subjectAlias, isShownAlias].includes(tableName(source))) {
      const what = `the views call something of their own "${tableName(source)}"`;
      throw portierError("wrong-call", { what, hint: "give the table another name" });
    }
    const other = taken.get(tableName(source));
    if (other !== undefined) {
      const what = `the views of "${other.source}" and "${source}" would have one name`;
      throw portierError("wrong-call", { what, hint: "write row security for one schema's tables at a time" });
    }
    taken.set(tableName(source), table);
  }
}
