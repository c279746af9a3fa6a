import type { Row } from "../conditions/source.js";
import type { Connection, DriverRow } from "../database/connection.js";
import { Records } from "../database/records.js";
import { inReading, inTransaction, wait } from "../database/retry.js";
import { createState, versionOf } from "../database/state.js";
import { deleteRecord, deleteRecords, insertRecord, insertRecords, updateRecord } from "../database/statements.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import type { StoredWrite } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import { createTable } from "../sql/create-tables.js";
import type { Dialect } from "../sql/dialect.js";
import { finish, param, raw, sql } from "../sql/fragment.js";
import { type AuditVerification, ChainCheck, linkAfter, type VerifyOptions } from "./audit-chain.js";
import type { AuditEntry } from "./audit-entry.js";
import { keptOf } from "./kept-state.js";
import type { AuditQuery, RoleStore, StoreChange } from "./role-store.js";
import { Watchers } from "./watchers.js";

/** How often it is asked whether something has changed, in milliseconds, where nobody tells. */
const pollEvery = 400;
const channel = "portier";

/**
 * Keeps who holds what in small tables of the application's own database: see {@link storeMigration}. Changes are made
 * one after the other, whoever makes them; `createDatabase(...).as(...)` counts what is assigned at once, as it reads it in
 * the transaction in which it decides.
 *
 * @throws PortierError (`wrong-call`) for a document that does not say `people: { assignments: true }`.
 */
export function databaseStore<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  connection: Connection,
): RoleStore {
  keptOf(portier);
  const { schema } = portier;
  const version = async () => String(await versionOf(connection));
  return {
    keepsPersons: true,
    read: (question) =>
      inReading(connection, (inside) => {
        const records = new Records(inside, schema);
        return records.read(() => question(records));
      }),
    change: (work) =>
      inTransaction(connection, async (inside) => {
        const head = await holdState(inside);
        return work(changeOf(inside, portier as unknown as Portier, head));
      }),
    auditLog: (options) => selectEntries(connection, options),
    verifyAuditLog: (options) => inReading(connection, (inside) => verifyEntries(inside, options)),
    watch: sharedWatch((onChange) => watching(connection, version, onChange)),
  };
}

/** Whoever changes something holds this row: nobody else does until the end of the transaction. Gives its digest. */
export async function holdState(inside: Connection): Promise<string> {
  const lock = inside.dialect.name === "sqlite" ? "" : " for update";
  const [state] = await inside.query(`select head from portier_state${lock}`, []);
  if (state === undefined) throw notMigrated();
  return String(state["head"]);
}

function notMigrated() {
  const hint = "run the statements of storeMigration, or portier sql FILE --store";
  return portierError("wrong-call", { what: "the tables of who holds what are not there", hint });
}

function changeOf(inside: Connection, { schema }: Portier, first: string): StoreChange {
  let head = first;
  let records = new Records(inside, schema);
  return {
    read: (question) => {
      const held = records;
      return held.read(() => question(held));
    },
    write: async (writes, entries) => {
      // What was read before is not what is there after it.
      records = new Records(inside, schema);
      if (writes.length > fewWrites) await writeTogether(inside, writes);
      else for (const write of writes) await writeRecord(inside, write);
      for (const entry of entries) head = await insertEntry(inside, entry, head);
      // Where who holds what is as it was, nobody needs to hear of it.
      const step = writes.length === 0 ? 0 : 1;
      const place = inside.dialect.placeholder(1);
      await inside.query(`update portier_state set version = version + ${step}, head = ${place}`, [head]);
      if (step === 0) return;
      if (inside.dialect.name === "postgres") await inside.query("select pg_notify($1, '')", [channel]);
    },
  };
}

async function writeRecord(inside: Connection, { table, before, after }: StoredWrite): Promise<void> {
  if (after === undefined) {
    if (before !== undefined) await deleteRecord(inside, table, before);
    return;
  }
  if (before === undefined) {
    await insertRecord(inside, table, after);
    return;
  }
  const changes = Object.entries(after).filter(([name, value]) => value !== before[name]);
  await updateRecord(inside, table, before, Object.fromEntries(changes));
}

/** Beyond so many, records are written many in a statement. */
const fewWrites = 20;

/** What changes is deleted and made again: a row that is inserted into a sheet moves whatever is protected below it. */
async function writeTogether(inside: Connection, writes: readonly StoredWrite[]): Promise<void> {
  for (const table of new Set(writes.map((write) => write.table))) {
    const own = writes.filter((write) => write.table === table);
    const rows = (side: "before" | "after"): Row[] =>
      own.flatMap((write): Row[] => (write[side] === undefined ? [] : [write[side]]));
    await deleteRecords(inside, table, rows("before"));
    await insertRecords(inside, table, rows("after"));
  }
}

const columns = ["at", "kind", "by_person", "acted_by", "person", "before_state", "after_state", "reason", "details"];

/** Adds an entry to the record; gives its digest. */
async function insertEntry(inside: Connection, entry: AuditEntry, previous: string): Promise<string> {
  const { dialect } = inside;
  const { at, kind, by, actedBy, person, before, after, reason, details } = entry;
  const values = [at, kind, by, actedBy, person, before, after, reason, details].map((value) =>
    Array.isArray(value) ? JSON.stringify(value) : value,
  );
  const names = [...columns, "digest"].map(dialect.quoteName).join(", ");
  const places = [...columns, "digest"].map((_, index) => dialect.placeholder(index + 1)).join(", ");
  const digest = await linkAfter(previous, contentOf(values));
  await inside.query(`insert into portier_audit_log (${names}) values (${places})`, [...values, digest]);
  return digest;
}

/** What a digest is of: the columns as the database gives them back. */
function contentOf(values: readonly unknown[]): string {
  return JSON.stringify(values.map((value) => (value === null || value === undefined ? null : String(value))));
}

/** How many entries are read at a time. */
const verifiedAtOnce = 500;

async function verifyEntries(inside: Connection, options: VerifyOptions | undefined): Promise<AuditVerification> {
  const { quoteName, placeholder } = inside.dialect;
  const check = new ChainCheck(options);
  const [state] = await inside.query("select head from portier_state", []);
  const names = ["number", ...columns, "digest"].map(quoteName).join(", ");
  let isWhole = true;
  for (let last: unknown = 0, more = true; isWhole && more; ) {
    const rows = await inside.query(
      `select ${names} from portier_audit_log where number > ${placeholder(1)} order by number limit ${verifiedAtOnce}`,
      [last],
    );
    for (const row of rows) {
      isWhole &&= await check.takes(contentOf(columns.map((name) => row[name])), String(row["digest"]));
      last = row["number"];
    }
    more = rows.length === verifiedAtOnce;
  }
  return check.result(String(state?.["head"] ?? ""));
}

async function selectEntries(connection: Connection, { person, limit = 100 }: AuditQuery = {}): Promise<AuditEntry[]> {
  const { dialect } = connection;
  const names = raw(columns.map(dialect.quoteName).join(", "));
  const about = ["person", "by_person", "acted_by"].map((name) => sql`${raw(name)} = ${param(person)}`);
  const [one, two, three] = about as [typeof names, typeof names, typeof names];
  const filter = person === undefined ? raw("") : sql` where ${one} or ${two} or ${three}`;
  const most = raw(String(Math.max(0, Math.floor(limit))));
  const statement = sql`select ${names} from portier_audit_log${filter} order by number desc limit ${most}`;
  const { text, params } = finish(statement, dialect.placeholder);
  return (await connection.query(text, params)).map(entryFrom);
}

function entryFrom(row: DriverRow): AuditEntry {
  const text = (name: string) => (row[name] === null || row[name] === undefined ? null : String(row[name]));
  const list = (name: string) => JSON.parse(String(row[name])) as Row[];
  return {
    at: String(row["at"]),
    kind: String(row["kind"]) as AuditEntry["kind"],
    by: text("by_person"),
    actedBy: text("acted_by"),
    person: text("person"),
    before: list("before_state"),
    after: list("after_state"),
    reason: text("reason"),
    details: list("details") as unknown as string[],
  };
}

/** However many watch, one asks for them all: it begins with the first and ends with the last. */
function sharedWatch(begin: (onChange: () => void) => Promise<() => Promise<void>>): RoleStore["watch"] {
  const watchers = new Watchers();
  let running: Promise<() => Promise<void>> | undefined;
  const endIfAlone = async () => {
    const ending = running;
    if (watchers.size > 0 || ending === undefined) return;
    running = undefined;
    await (await ending.catch(() => undefined))?.();
  };
  return async (onChange) => {
    const stop = watchers.add(onChange);
    running ??= begin(() => watchers.tell());
    try {
      await running;
    } catch (error) {
      stop();
      if (watchers.size === 0) running = undefined;
      throw error;
    }
    return async () => {
      if (stop()) await endIfAlone();
    };
  };
}

/** Listens where the database tells, and asks now and then where it does not, or not any more. */
async function watching(
  connection: Connection,
  version: () => Promise<string>,
  onChange: () => void,
): Promise<() => Promise<void>> {
  let known = await version();
  let isOver = false;
  let stopListening: (() => Promise<void>) | undefined;
  const look = async () => {
    const found = await version();
    if (found === known || isOver) return;
    known = found;
    onChange();
  };
  const listen = async () => {
    if (connection.listen === undefined || isOver) return;
    const stop = await connection.listen(
      channel,
      () => void look().catch(() => {}),
      () => {
        stopListening = undefined;
      },
    );
    if (isOver) await stop();
    else stopListening = stop;
  };
  await listen().catch(() => {});
  const run = async () => {
    while (!isOver) {
      await wait(pollEvery);
      if (isOver) return;
      // What cannot be asked now is asked again: a change is told late rather than never.
      if (stopListening === undefined) await listen().catch(() => {});
      await look().catch(() => {});
    }
  };
  const running = run();
  return async () => {
    isOver = true;
    await stopListening?.();
    await running;
  };
}

/**
 * The statements that make the tables in which it is kept who holds what, each to be run by itself; they can be run again.
 * The record of what was done can be added to, and neither changed nor shortened by those who may only write to tables; what
 * whoever may change tables themselves does to it, {@link RoleStore.verify} finds.
 * @throws PortierError (`wrong-call`) where the document has no `assignments: true`.
 */
export function storeMigration<T extends DocumentTypes = AnyDocument>(portier: Portier<T>, dialect: Dialect): string[] {
  const { assignments, delegations, protections } = keptOf(portier);
  const { tables } = portier.schema;
  const quote = dialect.quoteName;
  const key = dialect.columnType(assignments.address.type, true);
  const index = (table: string, column: string) =>
    `create index if not exists ${quote(`${table}_${column}`)} on ${quote(table)} (${quote(column)})`;
  const number = {
    postgres: "bigint generated always as identity",
    sqlite: "integer",
    mariadb: "bigint auto_increment",
  };
  return [
    createTable(assignments, tables, dialect, true),
    index("portier_assignments", "person"),
    index("portier_assignments", "role"),
    createTable(delegations, tables, dialect, true),
    index("portier_delegations", "of_person"),
    index("portier_delegations", "to_person"),
    ...(protections === undefined
      ? []
      : [createTable(protections, tables, dialect, true), index("portier_protections", "of_table")]),
    `create table if not exists portier_audit_log (
  number ${number[dialect.name]} primary key,
  ${columns.map((name) => `${quote(name)} ${recordTypes[name] === "key" ? key : longText(dialect)}${optional.includes(name) ? "" : " not null"}`).join(",\n  ")},
  digest ${key} not null
)`,
    index("portier_audit_log", "person"),
    ...appendOnly(dialect),
    ...createState(dialect, key),
  ];
}

const recordTypes: Readonly<Record<string, "key">> = {
  at: "key",
  kind: "key",
  by_person: "key",
  acted_by: "key",
  person: "key",
};
const optional = ["by_person", "acted_by", "person", "reason"];

function longText({ name }: Dialect): string {
  return name === "mariadb" ? "longtext character set utf8mb4" : "text";
}

/** Triggers that refuse to change or delete what was recorded. */
function appendOnly({ name }: Dialect): string[] {
  const says = "what was recorded stays as it is";
  switch (name) {
    case "postgres":
      return [
        `create or replace function portier_audit_log_stays() returns trigger language plpgsql as $$begin raise exception '${says}'; end$$`,
        "create or replace trigger portier_audit_log_stays before update or delete or truncate on portier_audit_log for each statement execute function portier_audit_log_stays()",
      ];
    case "sqlite":
      return [
        ...["update", "delete"].map(
          (what) =>
            `create trigger if not exists portier_record_${what} before ${what} on portier_audit_log begin select raise(abort, '${says}'); end`,
        ),
        // What replaces a row deletes it without a word to the trigger for that.
        `create trigger if not exists portier_record_insert before insert on portier_audit_log when exists (select 1 from portier_audit_log where number = new.number) begin select raise(abort, '${says}'); end`,
      ];
    case "mariadb":
      return [
        ...["update", "delete"].map(
          (what) =>
            `create trigger if not exists portier_record_${what} before ${what} on portier_audit_log for each row signal sqlstate '45000' set message_text = '${says}'`,
        ),
        // A table that another one refers to cannot be truncated, which no trigger hears of.
        "create table if not exists portier_audit_log_stays (number bigint not null primary key references portier_audit_log (number))",
      ];
    default:
      return name satisfies never;
  }
}
