import type { Row } from "../conditions/source.js";
import type { Table } from "../schema/schema.js";
import { type Fragment, raw, sql } from "../sql/fragment.js";
import { sourceName } from "../sql/scope.js";
import type { Connection, DriverRow } from "./connection.js";
import { holds, selectRecords } from "./statements.js";
import { type Select, selectTogether } from "./together.js";

interface KeptList {
  readonly mark: string;
  readonly rows: readonly Row[];
}

/** How many states of a list are kept: the one that counts, and what a transaction under way makes of it. */
const mostStates = 4;

/**
 * What is protected in the tables of a database, so that it is read anew only when it has changed. Whether it has, the number
 * of records and the sum of their stamps tell, which each change makes random: no two states have the same, not even one that
 * is rolled back.
 */
export class KeptLists {
  readonly #lists = new Map<string, readonly KeptList[]>();

  /** A select that tells whether the protections of a table are still as they were; {@link known} reads its row. */
  markSelect({ dialect }: Connection, kept: Table, condition: Fragment): Select {
    const from = raw(sourceName(dialect, kept));
    const stamps = raw(dialect.quoteName("stamp"));
    const text = sql`select count(*) as n, coalesce(sum(${stamps}), 0) as s from ${from} where ${condition}`;
    return { text, columns: ["n", "s"] };
  }

  /** The protections of a table as they were read when it had this mark; undefined where they were not. */
  known(table: string, found: DriverRow | undefined): readonly Row[] | undefined {
    const mark = `${String(found?.["n"])} ${String(found?.["s"])}`;
    return this.#lists.get(table)?.find((one) => one.mark === mark)?.rows;
  }

  /** The protections of a table. The same list, for as long as nothing has changed; it and its records are frozen. */
  async of(connection: Connection, kept: Table, table: string): Promise<readonly Row[]> {
    const condition = protectionsOf(connection, kept, table);
    if (condition === undefined) return [];
    const [[mark] = []] = await selectTogether(connection, [this.markSelect(connection, kept, condition)]);
    const same = this.known(table, mark);
    if (same !== undefined) return same;
    const known = this.#lists.get(table) ?? [];
    const rows = frozen(await selectRecords(connection, kept, condition), known);
    this.#lists.set(table, [{ mark: markOf(rows), rows }, ...known].slice(0, mostStates));
    return rows;
  }
}

/** Which protections are those of a table; undefined where none can be. */
export function protectionsOf(connection: Connection, kept: Table, table: string): Fragment | undefined {
  const field = kept.byName.get("table");
  return field && holds(connection, field, table);
}

/** As the database says it, of the records as they were read: others may have come since they were counted. */
function markOf(rows: readonly Row[]): string {
  const sum = rows.reduce((all, row) => all + BigInt(String(row["stamp"])), 0n);
  return `${rows.length} ${sum}`;
}

/** Records that are as they were are the same objects: what was made of them is not made again. */
function frozen(rows: readonly Row[], known: readonly KeptList[]): readonly Row[] {
  const before = new Map(known.flatMap((list) => list.rows.map((row) => [row["id"], row])));
  return Object.freeze(
    rows.map((row) => {
      const same = before.get(row["id"]);
      const isSame = same !== undefined && JSON.stringify(same) === JSON.stringify(row);
      return isSame ? same : Object.freeze(row);
    }),
  );
}
