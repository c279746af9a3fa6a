import type { Row } from "portier";
import { type Connection, createDatabase, type UserDatabase } from "portier/database";
import { administration, databaseStore, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, engines, store } from "../support/engines.js";
import { as, portier, records } from "../support/museum.js";

// What is asked of a database is answered as it was at one instant, though it takes several statements: who somebody was
// before a change never meets what is there after it.

const [keeper, bell] = ["s-003", "BM-SH-0001"];

type Question = (database: UserDatabase) => Promise<unknown>;

const questions: Readonly<Record<string, Question>> = {
  "a page of a list": (database) => database.list("objects", { limit: 500, where: `accession = '${bell}'` }),
  "a page, or that nothing of it may be seen": (database) =>
    database
      .list("treatments", (session) => {
        if (session.reach("edit", "objects") === "none") throw new Error("nothing");
        return { limit: 3 };
      })
      .catch(({ message }: Error) => message),
  "a list of all": (database) => database.list("objects", { where: `accession = '${bell}'` }),
  "a page by its place": (database) => database.list("objects", { limit: 3, sort: ["-shelf"], total: false }),
  "one record": (database) =>
    database.about("objects", bell, (session, record) => record && session.mask("objects", record)),
  "what may be chosen, of all that there is": (database) =>
    database.about("objects", bell, (session, record) => [
      record && session.mask("objects", record),
      session.choices("objects", "keeper", record),
    ]),
  "the form of a record": (database) =>
    database.about("objects", bell, (session, record) => record && session.form("objects", record)),
  "who somebody is": (database) => database.ask((session) => [session.roles, session.reach("edit", "objects")]),
};

/** Changes in this order: in none of the states between them is there a keeper who may see what is written. */
const changes: Readonly<Record<string, (post: string, secret: string) => readonly string[]>> = {
  "a role is taken before a secret is written": (post, secret) => [post, secret],
  "a secret is gone before a role is given": (post, secret) => [secret, post],
};

const able = Object.entries(engines).filter(([name]) => name === "PostgreSQL" || name === "MariaDB");

describe.each(able)("%s, while others change what is asked about", (_, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  });
  beforeEach(async () => {
    for (const table of allTables(portier.schema)) await store(engine, table, records(table.name).slice(0, 60));
  });
  afterAll(() => engine?.close());

  const quote = (name: string) => engine.dialect.quoteName(name);
  const setPost = (post: string) => `update ${quote("staff")} set post = '${post}' where id = '${keeper}'`;
  const setShelf = (shelf: string) => `update ${quote("objects")} set shelf = '${shelf}' where accession = '${bell}'`;

  describe.each(Object.entries(changes))("%s", (change, inOrder) => {
    const isTaken = change.startsWith("a role is taken");
    const [first, last] = isTaken ? (["keeper", "volunteer"] as const) : (["volunteer", "keeper"] as const);
    const [shown, hidden] = isTaken ? ["N1-1", "SECRET"] : ["SECRET", "N1-1"];

    it.each(Object.entries(questions))("answers %s as before or as after it", async (_name, question) => {
      const ask = (connection: Connection) => question(createDatabase(portier, connection).as(keeper));
      const begin = async () => {
        for (const statement of [setPost(first), setShelf(shown)]) await engine.run(statement);
      };
      const run = async () => {
        for (const statement of inOrder(setPost(last), setShelf(hidden))) await engine.run(statement);
      };
      await begin();
      const before = await ask(engine.connection);
      await run();
      const after = await ask(engine.connection);
      expect(after).not.toEqual(before);

      let [asBefore, asAfter] = [0, 0];
      for (const isKnown of [false, true]) {
        for (let at = 0, isOver = false; !isOver; at++) {
          await begin();
          const watched = interrupted(engine.connection);
          const database = createDatabase(portier, watched.connection).as(keeper);
          // Somebody who was here just before is remembered.
          if (isKnown) await database.ask((session) => session.roles);
          watched.before(at, run);
          const answer = await question(database);
          isOver = !watched.isDone();
          // However much is remembered, nothing is answered unasked.
          if (isOver) expect(at).toBeGreaterThan(0);
          if (isOver) break;
          expect([before, after], `before statement ${at}`).toContainEqual(answer);
          if (JSON.stringify(answer) === JSON.stringify(before)) asBefore++;
          else asAfter++;
        }
      }
      expect(asBefore + asAfter).toBeGreaterThan(2);
      expect(asAfter).toBeGreaterThan(0);
    });
  });
});

/** Runs something before a statement, counted from when it is set; statements that begin and end transactions count, too. */
function interrupted(connection: Connection) {
  let count = 0;
  let wanted = Number.POSITIVE_INFINITY;
  let run = async () => {};
  let isDone = true;
  const watched = (one: Connection): Connection => ({
    ...one,
    query: async (text, params) => {
      if (count++ === wanted) {
        await run();
        isDone = true;
      }
      return one.query(text, params);
    },
    transaction: (work) => one.transaction((inside) => work(watched(inside))),
    ...(one.reading && { reading: (work) => one.reading?.((inside) => work(watched(inside))) as never }),
  });
  return {
    connection: watched(connection),
    before: (at: number, what: () => Promise<void>) => {
      [count, wanted, run, isDone] = [0, at, what, false];
    },
    isDone: () => isDone,
    count: () => count,
  };
}

describe.each(Object.entries(engines))("%s is asked", (name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
    for (const table of allTables(portier.schema)) await store(engine, table, records(table.name).slice(0, 60));
  });
  afterAll(() => engine?.close());

  it.each([
    ["one record", 1],
    ["a page of a list", 1],
    ["who somebody is", 1],
  ] as const)("for %s once, of somebody who was here before", async (question, statements) => {
    const watched = interrupted(engine.connection);
    const database = createDatabase(portier, watched.connection).as(keeper);
    const ask = questions[question] as Question;
    const found = await ask(database);
    watched.before(-1, async () => {});
    expect(await ask(database)).toEqual(found);
    // There is no way to a server that would be saved.
    if (name !== "SQLite") expect(watched.count()).toBe(statements);
  });

  it("by everybody in turn, also by some who are alike, and shows each their own", async () => {
    const database = createDatabase(portier, engine.connection);
    const objects = records("objects").slice(0, 60);
    const keysOf = (rows: readonly Row[]) => rows.map((row) => `${row["accession"]} ${Object.keys(row).sort()}`).sort();
    const answers = new Set<string>();
    for (const { id } of records("staff")) {
      const page = await database.as(id as string).list("objects", { limit: 500 });
      const own = keysOf(as(id as string).maskAll("objects", objects));
      expect(keysOf(page.records as Row[]), id as string).toEqual(own);
      answers.add(JSON.stringify(own));
    }
    expect(answers.size).toBeGreaterThan(4);
  });

  it("for a role that was given since, and has it", async () => {
    const database = createDatabase(portier, engine.connection).as("s-007");
    const seen = async () => {
      const page = await database.list("objects", { limit: 500 });
      const isShown = (page.records as Row[]).some((row) => Object.hasOwn(row, "insured_value"));
      return { roles: await database.ask((session) => session.roles), isShown };
    };
    expect(await seen()).toMatchObject({ roles: ["assistant", "editor of e-2"], isShown: false });
    const people = administration(portier, databaseStore(portier, engine.connection)).as("s-001");
    const role = { person: "s-007", role: "registrar" };
    const { warnings } = await people.assign(role);
    const confirmed = warnings.map(({ id }) => id);
    expect(await people.assign(role, { confirmed })).toMatchObject({ accepted: true });
    expect(await seen()).toMatchObject({ roles: ["assistant", "editor of e-2", "registrar"], isShown: true });
  });
});
