import type { Row } from "../conditions/source.js";
import type { Connection } from "../database/connection.js";
import { createDatabase, type Database, type DatabaseOptions } from "../database/create-database.js";
import { inTransaction } from "../database/retry.js";
import { hasAddress, selectRecords } from "../database/statements.js";
import { isPlace } from "../rules/cells.js";
import type { SheetChange } from "../rules/ranges.js";
import { recordAddress } from "../schema/address.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { Grid, Table } from "../schema/schema.js";
import type { ChangeOptions, ChangeResult } from "../session/change-result.js";
import { type Identity, type IdentityOrKey, identityOf } from "../session/identity.js";
import type { Portier } from "../session/portier.js";
import { finish, param, raw, sql } from "../sql/fragment.js";
import { sourceName } from "../sql/scope.js";
import { databaseStore, holdState } from "./database-store.js";
import { type LostCells, moveProtections } from "./move-protections.js";

/** Options of a change of a grid's rows. */
export interface RowOptions extends ChangeOptions {
  /** Whether protections may be lost with the cells that go. Default: the change is not made, and tells of them. */
  readonly acceptLost?: boolean;
}

/** What came of a change of a grid's rows. */
export type RowOutcome =
  | (ChangeResult & { readonly lost: readonly LostCells[] })
  /** It would be accepted, once it is agreed to that these protections are lost: repeat it with `acceptLost`. */
  | {
      readonly accepted: false;
      readonly reason: "lost-cells";
      readonly refusals: readonly [];
      readonly lost: readonly LostCells[];
    };

/** One person who inserts, deletes and moves rows of a grid. */
export interface GridRows {
  /**
   * Makes a record at a row; what stands there and below moves down. Judged as making a record in that row, once protections
   * have moved as well.
   */
  insert(at: number, values: Row, options?: RowOptions): Promise<RowOutcome>;
  /** Deletes a record, and its row: what stands below moves up. */
  delete(key: string, options?: RowOptions): Promise<RowOutcome>;
  /** Moves a record before what stands at the row `to`. Judged as a change of its position. */
  move(key: string, to: number, options?: RowOptions): Promise<RowOutcome>;
}

/**
 * Rows of a grid in a database, with the protections of its cells: both move in one transaction, so no row is ever judged by
 * protections that stand elsewhere. Ranges that are written in rules stay where they are.
 *
 * @throws PortierError (`wrong-call`) for a table that is not a grid with `protections: true`.
 *
 * @example
 * const rows = gridRows(portier, pgConnection(pool), "plan").as("s-001");
 * const outcome = await rows.insert(4, { id: "b-41", item: "Lamps" });
 */
export function gridRows<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  connection: Connection,
  name: TableOf<T>,
  options: DatabaseOptions = {},
): { as(who: IdentityOrKey): GridRows } {
  const table = portier.schema.tables.get(name);
  if (table?.grid?.protections !== true) {
    throw portierError("wrong-call", {
      what: `"${name}" is not a grid whose cells are protected as data`,
      hint: 'add "protections: true" to its grid',
    });
  }
  const own = portier as unknown as Portier;
  return {
    as: (who) => new RowsOfOne({ portier: own, connection, table, grid: table.grid as Grid, options }, identityOf(who)),
  };
}

interface GridPlace {
  readonly portier: Portier;
  readonly connection: Connection;
  readonly table: Table;
  readonly grid: Grid;
  readonly options: DatabaseOptions;
}

/** Ends a transaction of which nothing is to stay. */
class NotMade extends Error {
  readonly outcome: RowOutcome;

  constructor(outcome: RowOutcome) {
    super("nothing is written");
    this.outcome = outcome;
  }
}

class RowsOfOne implements GridRows {
  readonly #place: GridPlace;
  readonly #identity: Identity;

  constructor(place: GridPlace, identity: Identity) {
    this.#place = place;
    this.#identity = identity;
  }

  insert(at: number, values: Row, { acceptLost, ...options }: RowOptions = {}): Promise<RowOutcome> {
    this.#checkRow(at);
    const { table, grid } = this.#place;
    return this.#together(async (inside, database) => {
      const lost = await this.#move(inside, { kind: "insert", of: "rows", at, count: 1 }, acceptLost);
      await this.#shift(inside, at, Number.POSITIVE_INFINITY, 1);
      const given = { ...values, [grid.position.name]: at };
      return { ...(await database.as(this.#identity).create(table.name, given, options)), lost };
    });
  }

  delete(key: string, { acceptLost, ...options }: RowOptions = {}): Promise<RowOutcome> {
    const { table, grid } = this.#place;
    return this.#together(async (inside, database) => {
      const before = await this.#find(inside, key);
      const outcome = await database.as(this.#identity).delete(table.name, key, options);
      const at = before?.[grid.position.name];
      // A record that has no place in the grid leaves none.
      if (!outcome.accepted || !isPlace(at)) return { ...outcome, lost: [] };
      const lost = await this.#move(inside, { kind: "delete", of: "rows", at, count: 1 }, acceptLost);
      await this.#shift(inside, at + 1, Number.POSITIVE_INFINITY, -1);
      return { ...outcome, lost };
    });
  }

  move(key: string, to: number, { acceptLost, ...options }: RowOptions = {}): Promise<RowOutcome> {
    this.#checkRow(to);
    const { table, grid } = this.#place;
    return this.#together(async (inside, database) => {
      const at = (await this.#find(inside, key))?.[grid.position.name];
      const isPlaced = isPlace(at);
      const end = isPlaced && to > at ? to - 1 : to;
      if (!isPlaced) await this.#shift(inside, to, Number.POSITIVE_INFINITY, 1, key);
      else if (end > at) await this.#shift(inside, at + 1, end, -1, key);
      else await this.#shift(inside, end, at - 1, 1, key);
      // Judged by protections as they were: what holds the row must let it go, and what is at its place let it in.
      const values = { [grid.position.name]: end };
      const outcome = await database.as(this.#identity).edit(table.name, key, values, options);
      if (!outcome.accepted || end === at) return { ...outcome, lost: [] };
      const change: SheetChange = isPlaced
        ? { kind: "move", of: "rows", at, count: 1, to }
        : { kind: "insert", of: "rows", at: to, count: 1 };
      return { ...outcome, lost: await this.#move(inside, change, acceptLost) };
    });
  }

  /** All of it in one transaction, in which nobody else changes what is protected; unless it is accepted, nothing stays. */
  async #together(work: (inside: Connection, database: Database) => Promise<RowOutcome>): Promise<RowOutcome> {
    const { portier, connection, options } = this.#place;
    try {
      return await inTransaction(connection, async (inside) => {
        await holdState(inside);
        const outcome = await work(inside, createDatabase(portier, inside, options));
        if (!outcome.accepted) throw new NotMade(outcome);
        return outcome;
      });
    } catch (error) {
      if (error instanceof NotMade) return error.outcome;
      throw error;
    }
  }

  /** Moves protections with the rows. */
  async #move(inside: Connection, change: SheetChange, acceptLost = false): Promise<readonly LostCells[]> {
    const { portier, table } = this.#place;
    const by = this.#identity.person === null ? null : String(this.#identity.person);
    const { actedBy } = this.#identity;
    const options = { by, actedBy: actedBy === undefined ? undefined : String(actedBy), acceptLost };
    const { isDone, lost } = await moveProtections(
      portier,
      databaseStore(portier, inside),
      table.name,
      change,
      options,
    );
    if (!isDone) throw new NotMade({ accepted: false, reason: "lost-cells", refusals: [], lost });
    return lost;
  }

  async #find(inside: Connection, key: string): Promise<Row | undefined> {
    const { table } = this.#place;
    const condition = hasAddress(inside, table, [key]);
    const found = condition === undefined ? [] : await selectRecords(inside, table, condition, { forUpdate: true });
    return found.find((row) => recordAddress(table, row) === key);
  }

  /**
   * Adds to the positions of the rows from one to another, but for one record. By way of places far below, so that no two
   * rows are at one place at any time.
   */
  async #shift(inside: Connection, from: number, to: number, by: number, but?: string): Promise<void> {
    const { table, grid } = this.#place;
    const { quoteName, placeholder } = inside.dialect;
    const position = raw(quoteName(grid.position.column));
    const name = raw(sourceName(inside.dialect, table));
    const isBut = but === undefined ? undefined : hasAddress(inside, table, [but]);
    const others = isBut === undefined ? raw("") : sql` and not (${isBut})`;
    const upTo = Number.isFinite(to) ? sql` and ${position} <= ${param(to)}` : raw("");
    for (const statement of [
      sql`update ${name} set ${position} = ${position} + ${param(farBelow)} where ${position} >= ${param(from)}${upTo}${others}`,
      sql`update ${name} set ${position} = ${position} + ${param(by - farBelow)} where ${position} >= ${param(from + farBelow)}`,
    ]) {
      const { text, params } = finish(statement, placeholder);
      await inside.query(text, params);
    }
  }

  #checkRow(row: number): void {
    if (isPlace(row) && Number.isInteger(row) && row < farBelow) return;
    throw portierError("wrong-call", { what: `${row} is not a row`, hint: "rows are whole numbers from 1" });
  }
}

/** Beyond every row that people make, and with it within what databases store as an integer. */
const farBelow = 1_000_000_000;
