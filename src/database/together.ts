import type { Dialect } from "../sql/dialect.js";
import { type Fragment, join, raw, sql } from "../sql/fragment.js";
import type { Connection, DriverRow } from "./connection.js";
import { run } from "./run.js";

/** A select that is run together with others. */
export interface Select {
  /** Ends before its `order by`. */
  readonly text: Fragment;
  /** The columns that it gives, by name. */
  readonly columns: readonly string[];
  /** The order of its rows, and how they are cut. */
  readonly order?: SelectOrder;
}

/** How the rows of a select are put in order, and cut. */
export interface SelectOrder {
  /** The terms of an `order by`; `column` is where a column of the select is found, by name. */
  readonly terms: (column: (name: string) => Fragment) => Fragment;
  /** A `limit` and an `offset`, with a blank before them. */
  readonly cut: Fragment;
}

/** How many selects one statement takes, and how many columns: PostgreSQL gives 1,664 at most. */
const [mostTogether, mostColumns] = [8, 1_000];

/** Selects in groups, in their order, of which each can be one statement. */
export function inGroups(selects: readonly Select[]): readonly (readonly Select[])[] {
  const groups: Select[][] = [];
  let columns = 0;
  for (const select of selects) {
    const last = groups[groups.length - 1];
    columns += select.columns.length;
    if (last !== undefined && last.length < mostTogether && columns <= mostColumns) last.push(select);
    else {
      groups.push([select]);
      columns = select.columns.length;
    }
  }
  return groups;
}

/** Whether several selects can be one statement. In SQLite there is no way to a server that this would save. */
export function canBeTogether({ name }: Dialect): boolean {
  return name !== "sqlite";
}

/**
 * Runs selects as one statement, where the database can: they all see it as it is at one instant, and it takes one way
 * there and back. Gives the rows of each.
 */
export async function selectTogether(
  connection: Connection,
  selects: readonly Select[],
): Promise<readonly (readonly DriverRow[])[]> {
  const { dialect } = connection;
  if (selects.length < 2 || !canBeTogether(dialect)) {
    const found: (readonly DriverRow[])[] = [];
    for (const select of selects) found.push(await run(connection, ordered(select, dialect)));
    return found;
  }
  const { quoteName } = dialect;
  const parts = selects.map((select, index): Part => {
    const columns = select.columns.map((name, at) => ({
      name: quoteName(name),
      as: quoteName(nameOf(name, index, at)),
    }));
    return { select, isHere: quoteName(hereOf(index)), columns };
  });
  const statement = dialect.name === "postgres" ? sideBySide(parts, dialect) : oneAfterAnother(parts, dialect);
  const orders = parts.flatMap(({ select, columns }): Fragment[] => {
    const place = (name: string) => raw(columns.find((column) => column.name === quoteName(name))?.as ?? "");
    return select.order === undefined ? [] : [select.order.terms(place)];
  });
  // What a select inside puts in order, the statement around it need not leave so.
  const order = orders.length === 0 ? raw("") : sql` order by ${join(orders, ", ")}`;
  const rows = await run(connection, sql`${statement}${order}`);
  return selects.map(({ columns }, index) => {
    const here = hereOf(index);
    const own = rows.filter((row) => row[here] !== null);
    return index === 0 ? own : own.map((row) => renamed(row, columns, index));
  });
}

/** The first select keeps its names: most rows are its own, and need not be copied. */
function nameOf(name: string, index: number, at: number): string {
  return index === 0 ? name : `portier_${index}_${at}`;
}

function hereOf(index: number): string {
  return `portier_${index}`;
}

function renamed(row: DriverRow, columns: readonly string[], index: number): DriverRow {
  const own: Record<string, unknown> = {};
  for (const [at, name] of columns.entries()) own[name] = row[nameOf(name, index, at)];
  return own;
}

interface Part {
  readonly select: Select;
  /** The column that is not null in its rows alone. */
  readonly isHere: string;
  /** Each column under a name that no other has. */
  readonly columns: readonly { readonly name: string; readonly as: string }[];
}

/** Each beside the others, and no row of one beside a row of another: there nulls have the types of their columns. */
function sideBySide(parts: readonly Part[], dialect: Dialect): Fragment {
  const joined = parts.map(({ select, isHere, columns }, index) => {
    const list = raw([`1 as ${isHere}`, ...columns.map(({ name, as }) => `${name} as ${as}`)].join(", "));
    const one = sql`(select ${list} from (${ordered(select, dialect)}) r) ${raw(`s${index}`)}`;
    return index === 0 ? one : sql` full join ${one} on false`;
  });
  return sql`select * from ${join(joined, "")}`;
}

/** One after the other, with nulls in the columns of the others. */
function oneAfterAnother(parts: readonly Part[], dialect: Dialect): Fragment {
  const all = parts.map((part) => {
    const list = parts.flatMap(({ isHere, columns }) => {
      const isOwn = columns === part.columns;
      const values = columns.map(({ name, as }) => `${isOwn ? name : "null"} as ${as}`);
      return [`${isOwn ? "1" : "null"} as ${isHere}`, ...values];
    });
    return sql`select ${raw(list.join(", "))} from (${ordered(part.select, dialect)}) r`;
  });
  return sql`select * from (${join(all, " union all ")}) parts`;
}

function ordered({ text, order }: Select, { quoteName }: Dialect): Fragment {
  if (order === undefined) return text;
  return sql`${text} order by ${order.terms((name) => raw(quoteName(name)))}${order.cut}`;
}
