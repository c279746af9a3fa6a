import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import type { DocumentTypes } from "../schema/document-types.js";
import type { Table } from "../schema/schema.js";
import type { Connection } from "./connection.js";
import { typed } from "./retry.js";
import { hasAddress, selectRecords } from "./statements.js";
import type { Work } from "./work.js";

/** A value was there already when a new record was written. */
class Duplicate extends Error {
  override readonly cause: unknown;
  readonly table: Table;
  readonly record: Row;
  readonly line: number;

  constructor(cause: unknown, table: Table, record: Row, line: number) {
    super("duplicate");
    this.cause = cause;
    this.table = table;
    this.record = record;
    this.line = line;
  }
}

/** Writes a new record; `line` is its place among those of the call. @throws Duplicate where a value is there already. */
export async function insertUntaken<T extends DocumentTypes>(
  work: Work<T>,
  name: string,
  record: Row,
  line: number,
): Promise<Row> {
  try {
    return await work.insert(name, record);
  } catch (error) {
    throw work.inside.isDuplicate(error) ? new Duplicate(error, work.table(name), record, line) : error;
  }
}

/** The line whose key somebody else took first; any other failure is thrown on, as the driver threw it. */
export async function lineTaken(connection: Connection, error: unknown): Promise<number> {
  if (!(error instanceof Duplicate)) throw error;
  const { cause, table, record, line } = error;
  const address = recordAddress(table, record);
  const condition = address === undefined ? undefined : hasAddress(connection, table, [address]);
  const found = condition === undefined ? [] : await selectRecords(connection, table, condition);
  if (found.length === 0) throw connection.isNested ? cause : typed(connection, cause);
  return line;
}
