import {
  ColumnNode,
  type CompiledQuery,
  type DeleteQueryNode,
  FromNode,
  type InsertQueryNode,
  type Dialect as KyselyDialect,
  MysqlAdapter,
  MysqlIntrospector,
  MysqlQueryCompiler,
  type OperationNode,
  PostgresAdapter,
  PostgresIntrospector,
  PostgresQueryCompiler,
  type QueryId,
  type QueryResult,
  type ReturningNode,
  SelectionNode,
  type SelectQueryNode,
  SqliteAdapter,
  SqliteIntrospector,
  SqliteQueryCompiler,
  type TableNode,
  type UpdateQueryNode,
  type WhereNode,
} from "kysely";
import type { Row } from "../conditions/source.js";
import type { Connection, DriverRow } from "../database/connection.js";
import type { DatabaseOptions } from "../database/create-database.js";
import { checkObserving } from "../database/observing.js";
import { Remembered } from "../database/remembered.js";
import { inTransaction } from "../database/retry.js";
import { UserDatabase } from "../database/user-database.js";
import { recordAddress } from "../schema/address.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Field, Table } from "../schema/schema.js";
import type { AcceptedChange, ChangeOptions, ChangeResult, RejectedChange } from "../session/change-result.js";
import { type Identity, type IdentityOrKey, identityOf } from "../session/identity.js";
import type { Portier } from "../session/portier.js";
import type { Dialect } from "../sql/dialect.js";
import { driverOf } from "./kysely-driver.js";
import { type KyselyOptions, Rewriter } from "./kysely-select.js";
import { onlyParts, refusedNode, returnedFields, rowsOf, updateOf } from "./kysely-statements.js";

/** How statements of Kysely are checked and masked. */
export interface PortierDialectOptions extends KyselyOptions, DatabaseOptions {
  /** Addresses of the rules whose messages the person has confirmed. */
  readonly confirmed?: readonly string[];
}

/** A statement that would have changed what it may not. Nothing of it was done. */
export class ChangeRefused extends Error {
  override readonly name = "ChangeRefused";
  readonly table: string;
  /** The address of the record; undefined for a new one. */
  readonly key: string | undefined;
  /** Why, as `session.checkEdit` and its siblings say it. */
  readonly outcome: RejectedChange;

  constructor(action: string, table: string, key: string | undefined, outcome: RejectedChange) {
    const fields = outcome.refusals.flatMap(({ field }) => (field === undefined ? [] : [field]));
    const what = fields.length === 0 ? "" : `: ${fields.join(", ")}`;
    super(`${action} ${table}${key === undefined ? "" : ` ${key}`} is ${outcome.reason}${what}`);
    this.table = table;
    this.key = key;
    this.outcome = outcome;
  }
}

/**
 * A dialect for Kysely with which one person works on a database: selects see what the person sees, as with
 * `portierPlugin`, and writing statements are judged record by record, as a session does, in one transaction. A
 * `where` finds what the person sees; a record that may not be changed as it says ends the statement with a
 * {@link ChangeRefused}, and nothing of it is done. `returning` gives what the person then sees.
 *
 * A written value must be one: what the database would work out (`sql` texts, other columns) cannot be judged before, and is
 * refused, as are `on conflict`, `limit`, joins and the like in statements that write, and texts of SQL everywhere.
 *
 * A statement by itself is begun anew while others stand in its way, and throws a `ConflictError` of `portier/database` in the
 * end; inside Kysely's own transaction it throws that at once, as the whole of it must be begun anew.
 *
 * @example
 * const db = new Kysely<Tables>({ dialect: portierDialect(portier, pgConnection(pool), "s-003") });
 * await db.updateTable("objects").set({ label: "Rung in fog." }).where("accession", "=", "BM-SH-0003").execute();
 */
export function portierDialect<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  connection: Connection,
  who: IdentityOrKey,
  options: PortierDialectOptions = {},
): KyselyDialect {
  const tools = toolsOf[connection.dialect.name];
  const working = new Working(portier as unknown as Portier, connection.dialect, identityOf(who), options);
  return {
    createAdapter: () => new tools.Adapter(),
    createIntrospector: (db) => new tools.Introspector(db),
    createQueryCompiler: () => new tools.QueryCompiler(),
    createDriver: () => driverOf(connection, (query, link, isReadOnly) => working.run(query, link, isReadOnly)),
  };
}

/** What a change returns is worked out here, and not by the database. */
class ReturningAdapter extends MysqlAdapter {
  override get supportsReturning(): boolean {
    return true;
  }
}

const toolsOf = {
  postgres: { Adapter: PostgresAdapter, Introspector: PostgresIntrospector, QueryCompiler: PostgresQueryCompiler },
  sqlite: { Adapter: SqliteAdapter, Introspector: SqliteIntrospector, QueryCompiler: SqliteQueryCompiler },
  mariadb: { Adapter: ReturningAdapter, Introspector: MysqlIntrospector, QueryCompiler: MysqlQueryCompiler },
} as const;

/** The statements of one person. */
class Working {
  readonly #portier: Portier;
  readonly #dialect: Dialect;
  readonly #identity: Identity;
  readonly #options: PortierDialectOptions;
  readonly #change: ChangeOptions;
  readonly #remembered = new Remembered();
  readonly #tables = new Map<string, Table>();

  constructor(portier: Portier, dialect: Dialect, identity: Identity, options: PortierDialectOptions) {
    this.#portier = portier;
    this.#dialect = dialect;
    this.#identity = identity;
    this.#options = options;
    this.#change = options.confirmed === undefined ? {} : { confirmed: options.confirmed };
    for (const table of portier.schema.tables.values()) this.#tables.set(table.source, table);
  }

  async run({ query, queryId }: CompiledQuery, link: Connection, isReadOnly: boolean): Promise<QueryResult<DriverRow>> {
    if (isReadOnly && query.kind !== "SelectQueryNode") throw refusedNode("a change: its transaction only reads");
    switch (query.kind) {
      case "SelectQueryNode":
        return { rows: [...(await this.#select(query as SelectQueryNode, queryId, link))] };
      case "InsertQueryNode":
        return inTransaction(link, (inside) => this.#insert(query as InsertQueryNode, inside));
      case "UpdateQueryNode":
        return inTransaction(link, (inside) => this.#update(query as UpdateQueryNode, queryId, inside));
      case "DeleteQueryNode":
        return inTransaction(link, (inside) => this.#delete(query as DeleteQueryNode, queryId, inside));
      default:
        throw refusedNode(`a ${query.kind}`);
    }
  }

  #databaseOn(link: Connection): UserDatabase {
    const { onDiagnostic } = this.#options;
    const observe = checkObserving(this.#portier.schema, this.#options.observe);
    return new UserDatabase(this.#portier, link, {
      identity: this.#identity,
      remembered: this.#remembered,
      onDiagnostic,
      observe,
    });
  }

  async #select(node: SelectQueryNode, id: QueryId, link: Connection): Promise<readonly DriverRow[]> {
    const session = await this.#databaseOn(link).session();
    const rewritten = new Rewriter(session, this.#dialect, this.#options).root(node) as SelectQueryNode;
    const { sql, parameters } = new toolsOf[this.#dialect.name].QueryCompiler().compileQuery(rewritten, id);
    return link.query(sql, parameters);
  }

  async #insert(node: InsertQueryNode, inside: Connection): Promise<QueryResult<DriverRow>> {
    onlyParts(node, ["into", "columns", "values", "returning", "defaultValues"]);
    const table = this.#table(node.into);
    const database = this.#databaseOn(inside);
    const records: (Row | undefined)[] = [];
    for (const values of rowsOf(node, table)) {
      const made = await database.create(table.name, values, this.#change);
      records.push(accepted(made, "create", table, undefined).record);
    }
    const [key] = table.key;
    const last = records[records.length - 1];
    const number = table.key.length === 1 && key !== undefined ? last?.[key.name] : undefined;
    return {
      numAffectedRows: BigInt(records.length),
      ...(typeof number === "number" ? { insertId: BigInt(number) } : {}),
      rows: await this.#returned(node.returning, table, records, database),
    };
  }

  async #update(node: UpdateQueryNode, id: QueryId, inside: Connection): Promise<QueryResult<DriverRow>> {
    onlyParts(node, ["table", "where", "updates", "returning"]);
    const table = this.#table(node.table);
    const values = Object.fromEntries((node.updates ?? []).map((update) => updateOf(update, table)));
    const database = this.#databaseOn(inside);
    const records: (Row | undefined)[] = [];
    for (const key of await this.#keys(node.table as TableNode, node.where, table, id, inside)) {
      const outcome = await database.edit(table.name, key, values, this.#change);
      records.push(accepted(outcome, "edit", table, key).record);
    }
    const count = BigInt(records.length);
    const rows = await this.#returned(node.returning, table, records, database);
    return { numAffectedRows: count, numChangedRows: count, rows };
  }

  async #delete(node: DeleteQueryNode, id: QueryId, inside: Connection): Promise<QueryResult<DriverRow>> {
    onlyParts(node, ["from", "where", "returning"]);
    const [from, another] = node.from.froms;
    if (another !== undefined) throw refusedNode("a delete from two tables");
    const table = this.#table(from);
    const database = this.#databaseOn(inside);
    const { returning, where } = node;
    const keys = await this.#keys(from as TableNode, where, table, id, inside);
    // What is returned of a record is seen before it goes.
    const selections = returning?.selections ?? [];
    for (const { selection } of selections) returnedFields(selection, table);
    const seen = { kind: "SelectQueryNode", from: node.from, selections, ...(where && { where }) };
    const rows = selections.length === 0 ? [] : [...(await this.#select(seen as SelectQueryNode, id, inside))];
    for (const key of keys) accepted(await database.delete(table.name, key, this.#change), "delete", table, key);
    return { numAffectedRows: BigInt(keys.length), rows };
  }

  /** The records that a `where` finds among those that the person sees. */
  async #keys(
    from: TableNode,
    where: WhereNode | undefined,
    table: Table,
    id: QueryId,
    link: Connection,
  ): Promise<readonly string[]> {
    const selections = table.key.map((field) => SelectionNode.create(ColumnNode.create(field.column)));
    const node = { kind: "SelectQueryNode", from: FromNode.create([from]), selections, ...(where && { where }) };
    const rows = await this.#select(node as SelectQueryNode, id, link);
    return rows.map((row) => recordAddress(table, this.#decoded(table.key, row)) as string);
  }

  #decoded(fields: readonly Field[], row: DriverRow): Row {
    return Object.fromEntries(fields.map(({ name, type, column }) => [name, this.#dialect.decode(type, row[column])]));
  }

  /** What the person sees of records among others, under the names of their columns; hidden values as null. */
  async #returned(
    returning: ReturningNode | undefined,
    table: Table,
    records: readonly (Row | undefined)[],
    database: UserDatabase,
  ): Promise<DriverRow[]> {
    if (returning === undefined) return [];
    const fields = returning.selections.flatMap(({ selection }) => returnedFields(selection, table));
    const rows: DriverRow[] = [];
    for (const record of records) {
      const key = record && recordAddress(table, record);
      const seen =
        key === undefined
          ? undefined
          : await database.about(
              table.name,
              key,
              (session, stored) => stored && session.mask(table.name, stored, "list"),
            );
      rows.push(
        Object.fromEntries(
          fields.map(([name, field]) => [name, this.#dialect.encode(field.type, seen?.[field.name] ?? null)]),
        ),
      );
    }
    return rows;
  }

  #table(node: OperationNode | undefined): Table {
    if (node?.kind !== "TableNode") throw refusedNode("a table under another name");
    const { table } = node as TableNode;
    const source = table.schema === undefined ? table.identifier.name : `${table.schema.name}.${table.identifier.name}`;
    const found = this.#tables.get(source);
    if (found !== undefined) return found;
    const hint = `declared: ${[...this.#tables.keys()].slice(0, 12).join(", ")}`;
    throw portierError("wrong-call", { what: `the document declares no table "${source}"`, hint });
  }
}

function accepted(outcome: ChangeResult, action: string, table: Table, key: string | undefined): AcceptedChange {
  if (outcome.accepted) return outcome;
  throw new ChangeRefused(action, table.name, key, outcome);
}
