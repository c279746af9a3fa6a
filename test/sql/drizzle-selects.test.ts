import { aliasedTable, and, count, eq, exists, gt, inArray, isNotNull, ne, not, type SQL, sql, sum } from "drizzle-orm";
import * as mysql from "drizzle-orm/mysql-core";
import { drizzle as openMysql } from "drizzle-orm/mysql-proxy";
import * as pg from "drizzle-orm/pg-core";
import { drizzle as openPostgres } from "drizzle-orm/pg-proxy";
import * as lite from "drizzle-orm/sqlite-core";
import { drizzle as openSqlite } from "drizzle-orm/sqlite-proxy";
import { seenTable, whereSql } from "portier/drizzle";
import { describe, expect, it } from "vitest";
import { engines } from "../support/engines.js";
import { as, records } from "../support/museum.js";
import { fillSeen, sorted, withCopy } from "../support/seen-copy.js";

// Every kind of select that the builder makes, over a person's view and over a copy of the
// tables that holds only what the person sees: the same.

// biome-ignore lint/suspicious/noExplicitAny: three builders that are called alike, and have no type in common
type Any = any;

const tables = {
  postgres: {
    objects: pg.pgTable("objects", {
      accession: pg.text(),
      title: pg.text(),
      status: pg.text(),
      keeper: pg.text(),
      value: pg.numeric("insured_value"),
    }),
    loans: pg.pgTable("loans", { id: pg.text(), object: pg.text(), state: pg.text("status"), fee: pg.numeric() }),
    staff: pg.pgTable("staff", { id: pg.text(), name: pg.text(), manager: pg.text(), salary: pg.numeric() }),
  },
  sqlite: {
    objects: lite.sqliteTable("objects", {
      accession: lite.text(),
      title: lite.text(),
      status: lite.text(),
      keeper: lite.text(),
      value: lite.numeric("insured_value"),
    }),
    loans: lite.sqliteTable("loans", {
      id: lite.text(),
      object: lite.text(),
      state: lite.text("status"),
      fee: lite.numeric(),
    }),
    staff: lite.sqliteTable("staff", {
      id: lite.text(),
      name: lite.text(),
      manager: lite.text(),
      salary: lite.numeric(),
    }),
  },
  mariadb: {
    objects: mysql.mysqlTable("objects", {
      accession: mysql.varchar({ length: 200 }),
      title: mysql.varchar({ length: 200 }),
      status: mysql.varchar({ length: 20 }),
      keeper: mysql.varchar({ length: 200 }),
      value: mysql.decimal("insured_value"),
    }),
    loans: mysql.mysqlTable("loans", {
      id: mysql.varchar({ length: 200 }),
      object: mysql.varchar({ length: 200 }),
      state: mysql.varchar("status", { length: 20 }),
      fee: mysql.decimal(),
    }),
    staff: mysql.mysqlTable("staff", {
      id: mysql.varchar({ length: 200 }),
      name: mysql.varchar({ length: 200 }),
      manager: mysql.varchar({ length: 200 }),
      salary: mysql.decimal(),
    }),
  },
} as const;

const builders = {
  postgres: () => openPostgres(async () => ({ rows: [] })),
  sqlite: () => openSqlite(async () => ({ rows: [] })),
  mariadb: () => openMysql(async () => ({ rows: [] })),
} as const;

/** A table as it stands in a statement under a name of its own: the person's view, or the table of the copy. */
type View = (table: "objects" | "loans" | "staff", alias?: string) => Any;

/** The methods of a select, and what else makes one: each is used by the statements that name it. */
const statements: Readonly<Record<string, (db: Any, view: View) => Any>> = {
  "select from": (db, view) => db.select().from(view("objects")),
  "select with fields": (db, view) => {
    const o = view("objects");
    return db.select({ accession: o.accession, value: o.value }).from(o);
  },
  selectDistinct: (db, view) => {
    const o = view("objects");
    return db.selectDistinct({ status: o.status }).from(o);
  },
  selectDistinctOn: (db, view) => {
    const o = view("objects");
    return db
      .selectDistinctOn([o.status], { status: o.status, accession: o.accession })
      .from(o)
      .orderBy(o.status, o.accession);
  },
  "where on what is hidden": (db, view) => {
    const o = view("objects");
    return db
      .select({ accession: o.accession })
      .from(o)
      .where(and(isNotNull(o.value), ne(o.status, "withdrawn")));
  },
  "orderBy limit offset": (db, view) => {
    const o = view("objects");
    return db.select({ accession: o.accession }).from(o).orderBy(o.accession).limit(7).offset(2);
  },
  "groupBy having": (db, view) => {
    const o = view("objects");
    const fields = { status: o.status, n: count(o.value).as("n"), worth: sum(o.value).as("worth") };
    return db.select(fields).from(o).groupBy(o.status).having(gt(count(), 1));
  },
  innerJoin: (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    return db.select({ id: l.id, title: o.title, fee: l.fee }).from(l).innerJoin(o, eq(o.accession, l.object));
  },
  leftJoin: (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    return db.select({ accession: o.accession, id: l.id }).from(o).leftJoin(l, eq(l.object, o.accession));
  },
  rightJoin: (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    return db.select({ accession: o.accession, id: l.id }).from(o).rightJoin(l, eq(l.object, o.accession));
  },
  fullJoin: (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    return db.select({ accession: o.accession, id: l.id }).from(o).fullJoin(l, eq(l.object, o.accession));
  },
  crossJoin: (db, view) => {
    const [s, l] = [view("staff"), view("loans")];
    return db.select({ name: s.name, state: l.state }).from(s).crossJoin(l);
  },
  "a table joined to itself": (db, view) => {
    const [a, b] = [view("staff", "a"), view("staff", "b")];
    const fields = { id: a.id, boss: sql`${b.id}`.as("boss"), salary: b.salary };
    return db.select(fields).from(a).leftJoin(b, eq(b.id, a.manager));
  },
  ...Object.fromEntries(
    ["leftJoinLateral", "innerJoinLateral", "crossJoinLateral"].map((join) => [
      join,
      (db: Any, view: View) => {
        const [o, l] = [view("objects"), view("loans")];
        const some = db.select({ id: l.id }).from(l).where(eq(l.object, o.accession)).as("some");
        const joined = db.select({ accession: o.accession, id: some.id }).from(o);
        return join === "crossJoinLateral" ? joined[join](some) : joined[join](some, sql`true`);
      },
    ]),
  ),
  "exists and not exists": (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    const lent = db.select({ one: sql`1` }).from(l).where(eq(l.object, o.accession));
    return db
      .select({ accession: o.accession })
      .from(o)
      .where(and(exists(lent), not(exists(lent.where(eq(l.state, "draft"))))));
  },
  "in a subquery": (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    return db
      .select({ accession: o.accession })
      .from(o)
      .where(inArray(o.accession, db.select({ k: l.object }).from(l)));
  },
  "as filtered outside": (db, view) => {
    const o = view("objects");
    const some = db.select().from(o).as("some");
    return db.select({ accession: some.accession, value: some.value }).from(some).where(gt(some.value, "1000"));
  },
  "a subquery that is selected": (db, view) => {
    const [o, l] = [view("objects"), view("loans")];
    const n = sql`(${db.select({ n: count() }).from(l).where(eq(l.object, o.accession))})`.as("n");
    return db.select({ accession: o.accession, n }).from(o);
  },
  "$with with": (db, view) => {
    const lent = db.$with("lent").as(db.select().from(view("loans")));
    const o = view("objects");
    return db
      .with(lent)
      .select({ state: lent.state, title: o.title })
      .from(lent)
      .innerJoin(o, eq(o.accession, lent.object));
  },
  "$dynamic prepare": (db, view) => {
    const o = view("objects");
    return db.select({ accession: o.accession }).from(o).$dynamic().where(eq(o.status, "on_display"));
  },
  ...Object.fromEntries(
    ["union", "unionAll", "intersect", "intersectAll", "except", "exceptAll"].map((set) => [
      set,
      (db: Any, view: View) => {
        const [o, l] = [view("objects"), view("loans")];
        return db
          .select({ k: o.accession })
          .from(o)
          [set](db.select({ k: l.object }).from(l));
      },
    ]),
  ),
};

/** What a select or a database has besides: how it runs, what it is, and what makes no select. */
const aside = new Set(
  [
    "query _ $cache authToken dialect session mode resultKind constructor insert update delete refreshMaterializedView execute",
    "transaction batch run all get values config joinsNotNullableMap tableName isPartialSelect cacheConfig usedTables _prepare",
    "setToken catch finally then getUsedTables createJoin createSetOperator addSetOperators for getSQL toSQL getSelectedFields",
    "$withCache createIterator iterator $count",
  ].flatMap((line) => line.split(" ")),
);

function methodsOf(value: object): string[] {
  const names: string[] = [];
  for (let at = value; at !== Object.prototype; at = Object.getPrototypeOf(at))
    names.push(...Object.getOwnPropertyNames(at));
  return names;
}

const people = ["s-003", "s-006", "s-010"];

describe.each(Object.entries(engines))("selects of Drizzle on %s", (_name, open) => {
  const databases = withCopy(open);

  it("are all there", () => {
    const { engine } = databases;
    const { name } = engine.dialect;
    const db: Any = builders[name]();
    const used = Object.keys(statements).flatMap((what) => what.split(" "));
    const all = [...methodsOf(db), ...methodsOf(db.select().from(tables[name].staff))];
    expect(all.filter((method) => !used.includes(method) && !aside.has(method))).toEqual([]);
  });

  it.each(people)("are for %s as if there were nothing else", async (person) => {
    const session = as(person);
    const { engine, copy } = databases;
    await fillSeen(copy, session);
    const { name } = engine.dialect;
    const db: Any = builders[name]();
    const own: Any = tables[name];
    const plain: View = (table, alias = `the_${table}`) => aliasedTable(own[table], alias);
    const masked: View = (table, alias = `the_${table}`) =>
      seenTable(session, table, own[table], engine.dialect, alias);
    let run = 0;
    for (const [what, statement] of Object.entries(statements)) {
      // A builder that does not have it makes none.
      const made = (view: View) => {
        try {
          return statement(db, view).toSQL() as { sql: string; params: unknown[] };
        } catch (error) {
          if (error instanceof TypeError) return undefined;
          throw error;
        }
      };
      const [expected, found] = [made(plain), made(masked)];
      if (expected === undefined || found === undefined) {
        expect([what, expected, found]).toEqual([what, undefined, undefined]);
        continue;
      }
      const right = await copy.run(expected.sql, expected.params).catch((error: Error) => error);
      const rows = await engine.run(found.sql, found.params).catch((error: Error) => error);
      // What a database cannot do at all, it cannot do here either.
      if (right instanceof Error) expect([what, rows instanceof Error]).toEqual([what, true]);
      else expect(sorted(rows), `${what}: ${found.sql}`).toEqual(sorted(right));
      if (!(right instanceof Error)) run++;
    }
    expect(run).toBeGreaterThan(20);
  });

  it("and changes that a condition stands beside reach what the person may change, and nothing else", async () => {
    const { engine } = databases;
    const { name } = engine.dialect;
    const db: Any = builders[name]();
    const own: Any = tables[name];
    for (const person of people) {
      const session = as(person);
      const where = (action: "edit" | "delete"): SQL =>
        whereSql(session, "objects", action, own.objects, engine.dialect);
      const may = (action: "edit" | "delete") =>
        records("objects").filter((row) => session.may(action, "objects", row)).length;
      const changes = {
        edit: db.update(own.objects).set({ title: "changed" }).where(where("edit")).toSQL(),
        delete: db.delete(own.objects).where(where("delete")).toSQL(),
      };
      const left = "select count(*) as n from objects where title <> 'changed'";
      for (const [action, { sql: text, params }] of Object.entries(changes)) {
        let n: unknown;
        const undone = engine.connection.transaction(async (inside) => {
          await inside.query(text, params);
          n = (await inside.query(left, []))[0]?.["n"];
          throw new Error("undone");
        });
        await expect(undone).rejects.toThrow("undone");
        expect([person, action, Number(n)]).toEqual([
          person,
          action,
          records("objects").length - may(action as "edit"),
        ]);
      }
    }
  });
});
