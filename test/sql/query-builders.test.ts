import { type Compilable, CompiledQuery, Kysely, sql } from "kysely";
import { compile } from "portier";
import { portierDialect, portierPlugin } from "portier/kysely";
import { describe, expect, it } from "vitest";
import { createTables, type Engine, engines } from "../support/engines.js";
import { builderFor, type MuseumTables } from "../support/kysely.js";
import { portier, records } from "../support/museum.js";
import { fillSeen, sorted, withCopy } from "../support/seen-copy.js";

// Every kind of select that the builder makes, asked of a person's view and of a copy that holds only what the person sees:
// the same, or refused with a reason. A `with` that was called as a table took its place in what rules ask of it.

type Db = Kysely<MuseumTables>;

const statements: Readonly<Record<string, (db: Db) => Compilable<unknown> & { execute(): Promise<unknown> }>> = {
  "all of a table": (db) => db.selectFrom("objects").select(["accession", "title", "insured_value"]),
  "an alias": (db) =>
    db.selectFrom("objects as o").select(["o.accession", "o.keeper"]).where("o.status", "=", "on_display"),
  "a filter on what is hidden": (db) =>
    db.selectFrom("objects").select("accession").where("insured_value", "is not", null),
  "a sort and a limit": (db) =>
    db.selectFrom("objects").select("accession").orderBy("accession", "desc").limit(7).offset(2),
  distinct: (db) => db.selectFrom("objects").select("department").distinct(),
  "a count": (db) => db.selectFrom("loans").select(({ fn }) => fn.countAll<number>().as("n")),
  groups: (db) =>
    db
      .selectFrom("objects")
      .select(["status", ({ fn }) => fn.count<number>("insured_value").as("n")])
      .groupBy("status")
      .having(({ fn }) => fn.countAll(), ">", 1),
  "a join": (db) =>
    db
      .selectFrom("loans as l")
      .innerJoin("objects as o", "o.accession", "l.object")
      .select(["l.id", "o.title", "l.fee"]),
  "an outer join": (db) =>
    db
      .selectFrom("objects")
      .leftJoin("loans", "loans.object", "objects.accession")
      .select(["objects.accession", "loans.id"]),
  "a join with more": (db) =>
    db
      .selectFrom("loans")
      .innerJoin("objects", (join) =>
        join.onRef("objects.accession", "=", "loans.object").on("objects.status", "<>", "withdrawn"),
      )
      .select("loans.id"),
  "a table joined to itself": (db) =>
    db
      .selectFrom("staff as a")
      .innerJoin("staff as b", "b.id", "a.manager")
      .select(["a.id", "b.id as boss", "b.salary"]),
  "a table beside itself": (db) =>
    db.selectFrom(["staff as a", "staff as b"]).select(["a.id", "b.id as other"]).whereRef("a.manager", "=", "b.id"),
  "a subquery in from": (db) =>
    db.selectFrom((eb) => eb.selectFrom("loans").select(["id", "fee"]).as("x")).select(["x.id", "x.fee"]),
  "a subquery in join": (db) =>
    db
      .selectFrom("objects as o")
      .innerJoin(
        (eb) => eb.selectFrom("loans").select(["object", "id"]).as("l"),
        (join) => join.onRef("l.object", "=", "o.accession"),
      )
      .select(["o.accession", "l.id"]),
  "a subquery that is selected": (db) =>
    db.selectFrom("objects as o").select([
      "o.accession",
      (eb) =>
        eb
          .selectFrom("loans as l")
          .whereRef("l.object", "=", "o.accession")
          .select(({ fn }) => fn.countAll<number>().as("n"))
          .as("loans"),
    ]),
  "a subquery that is compared": (db) =>
    db
      .selectFrom("objects as o")
      .select("o.accession")
      .where((eb) =>
        eb(
          eb
            .selectFrom("loans as l")
            .whereRef("l.object", "=", "o.accession")
            .select(({ fn }) => fn.countAll<number>().as("n")),
          ">",
          0,
        ),
      ),
  exists: (db) =>
    db
      .selectFrom("objects as o")
      .select("o.accession")
      .where(({ exists, selectFrom }) =>
        exists(selectFrom("loans as l").select("l.id").whereRef("l.object", "=", "o.accession")),
      ),
  "not exists": (db) =>
    db
      .selectFrom("objects as o")
      .select("o.accession")
      .where(({ not, exists, selectFrom }) =>
        not(exists(selectFrom("treatments as t").select("t.id").whereRef("t.object", "=", "o.accession"))),
      ),
  "in a select of the callback": (db) =>
    db
      .selectFrom("objects")
      .select("accession")
      .where("accession", "in", (eb) => eb.selectFrom("loans").select("object")),
  "in a select of the same database": (db) =>
    db.selectFrom("objects").select("accession").where("accession", "in", db.selectFrom("loans").select("object")),
  "a select of the same database in from": (db) =>
    db.selectFrom(db.selectFrom("loans").select(["id", "status"]).as("x")).select("x.id"),
  union: (db) => db.selectFrom("loans").select("id as k").union(db.selectFrom("staff").select("id as k")),
  "union all by a callback": (db) =>
    db
      .selectFrom("loans")
      .select("object as k")
      .unionAll((eb) => eb.selectFrom("treatments").select("object as k")),
  except: (db) =>
    db.selectFrom("objects").select("accession as k").except(db.selectFrom("loans").select("object as k")),
  intersect: (db) =>
    db.selectFrom("objects").select("accession as k").intersect(db.selectFrom("loans").select("object as k")),
  "a with": (db) =>
    db
      .with("lent", (one) => one.selectFrom("loans").select(["object", "status"]))
      .selectFrom("lent")
      .innerJoin("objects", "objects.accession", "lent.object")
      .select(["lent.status", "objects.title"]),
  "a with that names another": (db) =>
    db
      .with("lent", (one) => one.selectFrom("loans").select("object"))
      .with("again", (one) => one.selectFrom("lent").select("object"))
      .selectFrom("again")
      .select("object"),
  "a with inside a subquery": (db) =>
    db
      .selectFrom("objects")
      .select("accession")
      .where(
        "accession",
        "in",
        db
          .with("lent", (one) => one.selectFrom("loans").select("object"))
          .selectFrom("lent")
          .select("lent.object"),
      ),
  "a recursive with": (db) =>
    db
      .withRecursive("line(id, manager)", (one) =>
        one
          .selectFrom("staff")
          .select(["id", "manager"])
          .where("id", "=", "s-002")
          .union(
            one.selectFrom("staff as s").innerJoin("line as l", "s.manager", "l.id").select(["s.id", "s.manager"]),
          ),
      )
      .selectFrom("line")
      .select("id"),
  "a with that is called as a table": (db) =>
    db
      .with("loans", (one) =>
        one
          .selectFrom("objects")
          .select(["accession as id", "accession as object", "keeper as requested_by", "status", "label as fee"]),
      )
      .selectFrom("objects")
      .select("accession") as never,
  "a with that is called as a table, in capitals": (db) =>
    db
      .with("LOANS", (one) => one.selectFrom("objects").select("accession as id"))
      .selectFrom("objects")
      .select("accession"),
  "a with called as a table that rules ask, inside": (db) =>
    db
      .selectFrom(
        db
          .with("staff", (one) => one.selectFrom("objects").select("accession as id"))
          .selectFrom("loans")
          .select("loans.id")
          .as("x"),
      )
      .select("x.id"),
  "a with that reads itself": (db) =>
    db
      .with("secrets", (one) => one.selectFrom("secrets").select("id"))
      .selectFrom("secrets")
      .select("id"),
  "a with that reads a later one": (db) =>
    db
      .with("one", (eb) => (eb as never as Db).selectFrom("two" as never).selectAll() as never)
      .with("two", (eb) => eb.selectFrom("loans").select("id"))
      .selectFrom("one" as never)
      .selectAll() as never,
  "a table that is not declared": (db) => db.selectFrom("secrets").select("id"),
  "a cast": (db) =>
    db
      .selectFrom("objects")
      .select("accession")
      .where((eb) =>
        eb(eb.cast(eb.ref("insured_value"), eb.val(null) === null ? "integer" : "integer"), ">", 1),
      ) as never,
  "a function": (db) => db.selectFrom("objects").select(({ fn }) => fn<string>("upper", ["title"]).as("t")),
  "a case": (db) =>
    db
      .selectFrom("objects")
      .select((eb) => [
        "accession",
        eb.case().when("keeper", "is", null).then("nobody").else("somebody").end().as("kept"),
      ]),
  arithmetic: (db) =>
    db
      .selectFrom("staff")
      .select("id")
      .where((eb) => eb(eb("salary", "*", "2" as never), ">", "1" as never)),
  "a window": (db) =>
    db.selectFrom("loans").select([
      "id",
      ({ fn }) =>
        fn
          .agg<number>("row_number")
          .over((over) => over.partitionBy("status").orderBy("id"))
          .as("n"),
    ]),
  "a text of SQL": (db) => db.selectFrom("objects").select(sql`(select count(*) from loans)`.as("n")) as never,
  "a text as a table": (db) => db.selectFrom(sql<{ id: string }>`loans`.as("l")).select("l.id"),
};

const refused = new Set([
  ...[
    "a with that is called as a table",
    "a with that is called as a table, in capitals",
    "a with called as a table that rules ask, inside",
  ],
  ...[
    "a with that reads itself",
    "a with that reads a later one",
    "a table that is not declared",
    "a text of SQL",
    "a text as a table",
  ],
]);

const people = ["s-003", "s-006", "s-007", "s-010"];

describe.each(Object.entries(engines))("selects of the query builder on %s", (_name, open) => {
  const databases = withCopy(open);

  it.each(people)("are for %s as if there were nothing else, or refused", async (person) => {
    const request = { now: "2026-11-24T09:00:00Z" };
    const session = portier.session({
      person,
      source: portier.source(
        Object.fromEntries(
          [...portier.schema.tables.keys(), "portier_assignments", "portier_delegations"].map((name) => [
            name,
            records(name),
          ]),
        ),
      ),
      request,
    });
    const { engine, copy } = databases;
    await fillSeen(copy, session);
    const ours = new Kysely<MuseumTables>({ dialect: portierDialect(portier, engine.connection, { person, request }) });
    const plugged = builderFor<MuseumTables>(engine.dialect).withPlugin(portierPlugin(session, engine.dialect));
    const plain = builderFor<MuseumTables>(copy.dialect);
    for (const [what, statement] of Object.entries(statements)) {
      if (refused.has(what)) {
        await expect((async () => statement(ours).execute())(), what).rejects.toMatchObject({ name: "PortierError" });
        expect(() => statement(plugged).compile(), what).toThrow(/^(?!.*undefined)/);
        continue;
      }
      const asked = statement(plain).compile();
      const expected = await copy.run(asked.sql, asked.parameters).catch((error: Error) => error);
      const found = await (async () => statement(ours).execute())().catch((error: Error) => error);
      const compiled = statement(plugged).compile();
      const rows = await engine.run(compiled.sql, compiled.parameters).catch((error: Error) => error);
      if (expected instanceof Error) {
        // What a database cannot do at all, it cannot do here either.
        expect(found, what).toBeInstanceOf(Error);
        continue;
      }
      expect(sorted(found), `${what}: ${compiled.sql}`).toEqual(sorted(expected));
      expect(sorted(rows), `${what}, by the plugin: ${compiled.sql} ${JSON.stringify(compiled.parameters)}`).toEqual(
        sorted(expected),
      );
    }
  });
});

describe("statements that were built elsewhere", () => {
  it("do not pass: compiled ones, and changes where a transaction only reads", async () => {
    const engine = await (engines["SQLite"] as () => Promise<Engine>)();
    const small = compile({
      portier: 1,
      tables: {
        notes: {
          key: "id",
          fields: { id: "text" },
          rules: { all: { to: "anyone", permit: { view: "all", create: ["all"] } } },
        },
      },
    });
    await createTables(engine, small.schema);
    const db = new Kysely<{ notes: { id: string } }>({ dialect: portierDialect(small, engine.connection, null) });
    await expect(db.executeQuery(CompiledQuery.raw("select * from notes"))).rejects.toThrow(/cannot hold/);
    const reading = db
      .transaction()
      .setAccessMode("read only")
      .execute((inside) => inside.insertInto("notes").values({ id: "a" }).execute());
    await expect(reading).rejects.toThrow(/only reads/);
    expect(await engine.run("select * from notes")).toEqual([]);
    await db.transaction().execute((inside) => inside.insertInto("notes").values({ id: "a" }).execute());
    expect(await engine.run("select * from notes")).toEqual([{ id: "a" }]);
    const plugin = portierPlugin(small.session(), engine.dialect);
    const withheld = plugin.transformResult({ queryId: { queryId: "x" }, result: { rows: [{ id: "a" }] } });
    await expect(withheld).rejects.toThrow(/not rewritten/);
    await engine.close();
  });
});
