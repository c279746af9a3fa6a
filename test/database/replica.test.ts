import { readFileSync } from "node:fs";
import fc from "fast-check";
import type pg from "pg";
import {
  type Connection,
  createDatabase,
  type ReplicaOptions,
  replicaMigration,
  type UserDatabase,
} from "portier/database";
import { compileText } from "portier/document";
import { accessHandler } from "portier/http";
import { administration, databaseStore, storeMigration } from "portier/people";
import { pgConnection } from "portier/pg";
import { postgres, rowSecurity } from "portier/sql";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, fill, postgresType } from "../support/engines.js";
import { museumFile, portier, records } from "../support/museum.js";
import { seedOf } from "../support/runs.js";
import { openPair, type Pair, programs } from "../support/standby.js";

// What is read from a copy of the database is answered by rights that are new enough, or not at all.

const [keeper, lead, bell] = ["s-003", "s-004", "BM-SH-0001"];

async function make(engine: Pick<Engine, "dialect" | "run" | "columnType">) {
  await createTables(engine as Engine, portier.schema);
  for (const one of [...storeMigration(portier, postgres), ...replicaMigration(portier)]) await engine.run(one);
  for (const table of portier.schema.tables.values()) {
    await fill(engine as Engine, table, records(table.name).slice(0, 60));
  }
}

describe("what a database counts", () => {
  let engine: Engine;
  const version = async () => Number(await createDatabase(portier, engine.connection).version());
  const replica = (): ReplicaOptions => ({ connection: engine.connection, maxAge: 0, behind: "refuse" });
  const ask = (document = portier) =>
    createDatabase(document, engine.connection, { replica: replica() })
      .as(keeper)
      .ask((session) => session.roles);
  beforeAll(async () => {
    engine = await (engines["PGlite"] as () => Promise<Engine>)();
    await make(engine);
  });
  afterAll(() => engine?.close());

  it.each([
    ["a role that a person's field names", "update staff set post = 'volunteer' where id = 's-003'", 1],
    ["a person who leaves", "update staff set active = false where id = 's-005'", 1],
    ["what rules ask of the current user", "update staff set department = 'maps' where id = 's-003'", 1],
    ["the manager line", "update staff set manager = 's-002' where id = 's-005'", 1],
    ["many rows, as one change", "update staff set active = not active", 1],
    ["a record that gives a role", "delete from exhibition_team where member = 's-004'", 1],
    ["all of them", "truncate exhibition_team", 1],
    ["nothing that a rule asks about", "update staff set phone = '1', name = 'Odalys' where id = 's-003'", 0],
    ["nothing that changes", "update staff set post = post", 0],
    ["what is no right", "update objects set shelf = 'N2' where accession = 'BM-SH-0001'", 0],
  ])("%s", async (_, statement, step) => {
    const before = await version();
    await engine.run(statement);
    expect((await version()) - before).toBe(step);
  });

  it("counts what groups read of other records, and that these are there", async () => {
    const text = `portier: 1
people: { table: staff, name: name, roles: post }
roles: { keeper: {} }
groups:
  abroad: { members: { where: site.country <> 'PT' } }
  teachers: { members: { where: exists (lessons where teacher = this and held = true) } }
tables:
  staff: { key: id, fields: { id: text, name: text, post: { choice: [keeper] }, site: { reference: sites } } }
  sites: { key: id, fields: { id: text, country: text, rooms: integer } }
  lessons: { key: id, fields: { id: text, teacher: { reference: staff }, held: boolean, words: text } }
  shares: { key: id, fields: { id: text, person: { reference: staff }, object: { reference: objects }, note: text } }
  loans: { key: id, fields: { id: text, object: { reference: objects } } }
  objects:
    key: id
    fields: { id: text, title: text }
    rules:
      shared-with-them: { to: keeper, where: exists (shares where person = me and object = this), permit: { view: all } }
      out: { to: keeper, where: exists (loans where object = this), permit: { view: all } }`;
    const updates = replicaMigration(compileText(text)).filter((one) =>
      one.includes("comment on trigger portier_count_up"),
    );
    expect(updates.map((one) => /on (".*?") is '.*of (.*)\.'/.exec(one)?.slice(1))).toEqual([
      ['"staff"', "id, post, site"],
      ['"sites"', "country"],
      ['"lessons"', "held, id, teacher"],
      ['"shares"', "id, object, person"],
    ]);
  });

  it("counts what a login does that has no right on the count", async () => {
    await engine.run("create role clerk");
    await engine.run("grant update on staff to clerk");
    await engine.run("grant select on staff to clerk");
    const before = await version();
    await (engine.script as (text: string) => Promise<unknown>)(
      // A table of the same name that is found first does not take its place.
      `set role clerk; create temp table portier_state as select 1 as one, 0::bigint as version;
       update staff set post = 'registrar' where id = 's-003'; drop table pg_temp.portier_state; reset role`,
    );
    expect((await version()) - before).toBe(1);
  });

  it.each([
    ["switched off", "alter table staff disable trigger portier_count_update"],
    ["gone", "drop trigger portier_count_truncate on exhibition_team"],
  ])("answers nothing where a trigger is %s", async (_, statement) => {
    await engine.run(statement);
    await expect(ask()).rejects.toThrow(/does not count the changes of "(staff|exhibition_team)"/);
    await engine.run("alter table staff enable trigger portier_count_update");
    for (const again of replicaMigration(portier)) await engine.run(again);
    expect(await ask()).toBeDefined();
  });

  it("answers nothing where the rules ask for more than is counted", async () => {
    const text = readFileSync(museumFile, "utf8").replace("me.department", "me.name");
    await expect(ask(compileText(text) as typeof portier)).rejects.toThrow(/does not count the changes of "staff"/);
  });

  it.each<[string, (connection: Connection) => Partial<ReplicaOptions>]>([
    ["a bound that is none", () => ({ maxAge: Number.NaN })],
    ["a bound in the future", () => ({ maxAge: -1 })],
    ["another way out", () => ({ behind: "guess" as "wait" })],
    ["a transaction", (connection) => ({ connection: { ...connection, isNested: true } })],
    ["another engine", (connection) => ({ connection: { ...connection, dialect: { ...postgres, name: "sqlite" } } })],
  ])("refuses %s", (_, wrong) => {
    const given = { ...replica(), ...wrong(engine.connection) };
    expect(() => createDatabase(portier, engine.connection, { replica: given })).toThrow(/copy|maxAge|behind|inside/i);
  });
});

if (programs !== undefined) {
  describe("a hot standby that lags", () => {
    let pair: Pair;
    const asked = { primary: 0, standby: 0 };
    const counting = (connection: Connection, which: keyof typeof asked): Connection => {
      const counted = (one: Connection): Connection => ({
        ...one,
        query: (text, params) => {
          if (!/portier_state|pg_trigger|to_regclass/.test(text) || /staff/.test(text)) asked[which]++;
          return one.query(text, params);
        },
        transaction: (work) => one.transaction((inside) => work(counted(inside))),
        reading: (work) => (one.reading as NonNullable<Connection["reading"]>)((inside) => work(counted(inside))),
      });
      return counted(connection);
    };
    const primary = () => counting(pgConnection(pair.primary), "primary");
    const standby = () => counting({ ...pgConnection(pair.standby), patience: 60_000 }, "standby");
    const open = (given: Partial<ReplicaOptions> = {}) =>
      createDatabase(portier, primary(), {
        replica: { connection: standby(), maxAge: 0, behind: "refuse", ...given },
      });
    const reset = async () => {
      await pair.run("update staff set post = 'keeper', active = true, department = 'ships' where id = 's-003'");
      await pair.run("insert into exhibition_team values ('e-2', 's-004', 'lead') on conflict do nothing");
      await pair.run("delete from portier_assignments");
    };

    beforeAll(async () => {
      pair = await openPair();
      await make({
        dialect: postgres,
        columnType: postgresType("text"),
        run: async (text, params) => (await pair.run(text, params)).rows,
      });
    });
    beforeEach(async () => {
      await pair.resume();
      await reset();
      await pair.catchUp();
      asked.primary = asked.standby = 0;
    });
    afterAll(() => pair?.close());

    const questions: Readonly<Record<string, (database: UserDatabase) => Promise<unknown>>> = {
      "who somebody is": (database) => database.ask((session) => [session.roles, session.reach("edit", "objects")]),
      "a list": (database) => database.list("objects", { limit: 5, sort: ["accession"] }),
      "a list of all": (database) => database.list("objects", {}),
      "one record": (database) =>
        database.about("objects", bell, (session, record) => record && session.mask("objects", record)),
      "what may be chosen, of all that there is": (database) =>
        database.about("objects", bell, (session, record) => session.choices("objects", "keeper", record)),
    };

    const lost: Readonly<Record<string, () => Promise<unknown>>> = {
      "a post": () => pair.run("update staff set post = 'volunteer' where id = 's-003'"),
      "an account": () => pair.run("update staff set active = false where id = 's-003'"),
    };

    it.each(Object.entries(questions))("answers %s from the standby, as the primary would", async (_, question) => {
      const own = await question(createDatabase(portier, pgConnection(pair.primary)).as(keeper));
      const database = open();
      for (let n = 0; n < 2; n++) expect(await question(database.as(keeper))).toEqual(own);
      expect(asked.primary).toBe(0);
      expect(asked.standby).toBeGreaterThan(0);
    });

    describe.each(Object.entries(lost))("behind a change that takes %s", (_, change) => {
      it.each(Object.entries(questions))("does not answer %s by what counted before", async (_name, question) => {
        const database = { refuse: open(), primary: open({ behind: "primary" }), wait: open({ behind: "wait" }) };
        // Whoever is remembered is no exception.
        const before = await Promise.all(Object.values(database).map((one) => question(one.as(keeper))));
        await pair.pause();
        await change();
        const after = await question(createDatabase(portier, pgConnection(pair.primary)).as(keeper)).catch(said);
        expect(after).not.toEqual(before[0]);

        expect(await question(database.refuse.as(keeper)).catch(said)).toMatch(/behind/);
        expect(await question(database.primary.as(keeper)).catch(said)).toEqual(after);
        const waiting = question(database.wait.as(keeper)).catch(said);
        const first = await Promise.race([waiting, question(database.primary.as(keeper)).catch(said)]);
        expect(first).toEqual(after);
        await pair.resume();
        expect(await waiting).toEqual(after);
      });
    });

    it("refuses nobody by what counted before they were given a role", async () => {
      const onlyFor = (role: string) => (database: UserDatabase) =>
        database.ask((session) => {
          if (!session.roles.includes(role)) throw new Error(`not ${role}`);
          return role;
        });
      const [strict, lenient] = [open(), open({ behind: "primary" })];
      expect(await onlyFor("registrar")(strict.as(keeper)).catch(said)).toBe("not registrar");
      await pair.pause();
      await pair.run("update staff set post = 'registrar' where id = 's-003'");
      expect(await onlyFor("registrar")(strict.as(keeper)).catch(said)).toMatch(/behind/);
      expect(await onlyFor("registrar")(lenient.as(keeper)).catch(said)).toBe("registrar");
    });

    it("changes, and what a change is judged by, are the primary's alone", async () => {
      await pair.pause();
      await pair.run("update staff set post = 'volunteer' where id = 's-003'");
      const outcome = await open().as(keeper).edit("objects", bell, { label: "Rung." });
      expect(outcome.accepted).toBe(false);
      expect(asked.standby).toBe(0);
      // Nor do changes read the count, which would have every change of a role stand in their way.
      const inside: string[] = [];
      const connection = pgConnection(pair.primary);
      const recorded = (one: Connection): Connection => ({
        ...one,
        query: (text, params) => {
          inside.push(text);
          return one.query(text, params);
        },
      });
      const watched = {
        ...connection,
        transaction: <R>(work: (one: Connection) => Promise<R>) => connection.transaction((one) => work(recorded(one))),
      };
      const replica: ReplicaOptions = { connection: standby(), maxAge: 0, behind: "refuse" };
      await pair.run("update staff set post = 'keeper' where id = 's-003'");
      const changed = await createDatabase(portier, watched, { replica })
        .as(keeper)
        .edit("objects", bell, { label: "Rung twice." });
      expect(changed.accepted).toBe(true);
      expect(inside.some((text) => text.includes('"staff"'))).toBe(true);
      expect(inside.filter((text) => text.includes("portier_state"))).toEqual([]);
    });

    it("is answered by 503 over HTTP", async () => {
      const replica: ReplicaOptions = { connection: standby(), maxAge: 0, behind: "refuse" };
      const authenticate = () => ({ person: keeper });
      const handle = accessHandler({ portier, connection: primary(), replica, authenticate });
      const get = () => handle(new Request("http://museum.example/records/objects?limit=2"));
      expect((await get())?.status).toBe(200);
      await pair.pause();
      await pair.run("update staff set post = 'volunteer' where id = 's-003'");
      const response = await get();
      expect([response?.status, response?.headers.get("retry-after")]).toEqual([503, "1"]);
    });

    it("counts what administration does, and names a version that others can ask for", async () => {
      const database = open({ maxAge: 60_000 });
      const isEditor = (minVersion?: string) =>
        database.as(keeper, { minVersion }).ask((session) => session.roles.includes("volunteer"));
      expect(await isEditor()).toBe(false);
      await pair.pause();
      const director = administration(portier, databaseStore(portier, pgConnection(pair.primary))).as("s-001");
      const change = { kind: "assign", person: keeper, role: "volunteer" } as const;
      const { outcome } = await director.preview(change);
      const made = await director.make(change, { confirmed: outcome.warnings.map(({ id }) => id) });
      expect(made.accepted, JSON.stringify(made)).toBe(true);
      const version = await database.version();
      // Within the bound, what counted just before is new enough; for whoever knows of the change it is not.
      expect(await isEditor()).toBe(false);
      await expect(isEditor(version)).rejects.toThrow(/behind/);
      await pair.resume();
      await pair.catchUp();
      expect(await isEditor(version)).toBe(true);
      expect(() => database.as(keeper, { minVersion: "soon" })).toThrow(/no version/);
      await expect(isEditor(String(Number(version) + 1_000))).rejects.toThrow(/behind/);
    });

    it("holds for scoped roles of a link table", async () => {
      const database = open();
      const team = () => database.as(lead).ask((session) => session.reach("edit", "exhibitions"));
      expect(await team()).not.toBe("none");
      await pair.pause();
      await pair.run("delete from exhibition_team where member = 's-004'");
      await expect(team()).rejects.toThrow(/behind/);
      await pair.resume();
      await pair.catchUp();
      expect(await team()).toBe("none");
    });

    it("never answers by what ended before the bound, while roles change and the standby stops and goes on", async () => {
      const maxAge = 40;
      const database = open({ maxAge, behind: "wait" });
      const random = fc.sample(fc.nat(1_000), { numRuns: 5_000, seed: seedOf(20_261_201) });
      const draw = (below: number) => (random.pop() ?? 0) % below;
      const sleep = (ms: number) => new Promise((done) => setTimeout(done, ms));
      /** Which post was stored, from when (at the earliest) to when (at the latest). */
      const history: { post: string; from: number; until: number }[] = [
        { post: "keeper", from: Number.NEGATIVE_INFINITY, until: Number.POSITIVE_INFINITY },
      ];
      let isOver = false;
      const write = async () => {
        while (!isOver) {
          const post = ["keeper", "volunteer", "registrar", "conservator"][draw(4)] as string;
          const from = performance.now();
          await pair.run("update staff set post = $1 where id = 's-003'", [post]);
          (history[history.length - 1] as { until: number }).until = performance.now();
          history.push({ post, from, until: Number.POSITIVE_INFINITY });
          await sleep(draw(15));
        }
      };
      const disturb = async () => {
        while (!isOver) {
          await sleep(draw(60));
          await pair.pause();
          await sleep(draw(90));
          await pair.resume();
        }
      };
      const answers: { post: unknown; begun: number; ended: number }[] = [];
      const read = async () => {
        while (answers.length < 400) {
          const begun = performance.now();
          const post = await database
            .as(keeper)
            .ask(
              (session) => session.roles.filter((role) => /^(keeper|volunteer|registrar|conservator)$/.test(role))[0],
            );
          answers.push({ post, begun, ended: performance.now() });
        }
      };
      const background = Promise.all([write(), disturb()]);
      await Promise.all(Array.from({ length: 6 }, read));
      isOver = true;
      await background;
      const tooOld = answers.filter(
        ({ post, begun, ended }) =>
          !history.some((one) => one.post === post && one.from <= ended && one.until >= begun - maxAge),
      );
      expect(tooOld).toEqual([]);
      // Some were answered by a post that was not stored any more: the standby did lag.
      const late = answers.filter(
        ({ post, begun, ended }) =>
          !history.some((one) => one.post === post && one.from <= ended && one.until >= begun),
      );
      expect(late.length).toBeGreaterThan(0);
      expect(history.length).toBeGreaterThan(20);
    });

    it("row security reads there, and a login can ask for a version", async () => {
      await pair.run("create role museum_app login");
      const { migration } = rowSecurity(portier, { applications: ["museum_app"] });
      await pair.run(migration);
      await pair.catchUp();
      const [here, there] = [await pair.login("primary", "museum_app"), await pair.login("standby", "museum_app")];
      const ask = async (client: pg.Client, from: string, before = "select 1") => {
        await client.query("begin isolation level repeatable read read only");
        try {
          await client.query(before);
          await client.query("select portier.set_person('s-003')");
          return (await client.query(`select * from ${from} order by 1`)).rows;
        } finally {
          await client.query("rollback");
        }
      };
      for (const from of ["portier.objects", "portier_app.objects", "portier.staff", "portier_app.treatments"]) {
        const own = await ask(here, from);
        expect(own.length).toBeGreaterThan(0);
        expect(await ask(there, from)).toEqual(own);
      }
      await pair.pause();
      await pair.run("update staff set post = 'volunteer' where id = 's-003'");
      const version = await createDatabase(portier, pgConnection(pair.primary)).version();
      await expect(ask(there, "portier.objects", `select portier.require_version(${version})`)).rejects.toMatchObject({
        code: "55000",
      });
      await expect(ask(there, "portier.objects", "select portier.require_version(null)")).rejects.toThrow(/behind/);
      await there.query("begin");
      const waiting = there.query(`select portier.require_version(${version}, '60 s')`);
      await pair.resume();
      await waiting;
      await there.query("select portier.set_person('s-003')");
      const { rows } = await there.query("select post from portier.staff where id = 's-003'");
      expect(rows).toEqual([{ post: "volunteer" }]);
      await there.query("rollback");
      await Promise.all([here.end(), there.end()]);
    });

    it("answers nothing that nobody can vouch for: without the primary, only within the bound", async () => {
      const [strict, lenient] = [open(), open({ maxAge: 3_600_000, behind: "wait" })];
      const ask = (database: typeof strict) => database.as(keeper).ask((session) => session.roles);
      const before = await ask(lenient);
      await ask(strict);
      pair.stopPrimary();
      expect(await ask(lenient)).toEqual(before);
      await expect(ask(strict)).rejects.toThrow();
      await expect(ask(strict)).rejects.toThrow();
    });
  });
}

const said = ({ message }: Error) => message;
