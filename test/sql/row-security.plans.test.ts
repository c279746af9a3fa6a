import type pg from "pg";
import { rowSecurity } from "portier/sql";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, fill, postgresLogin, servers } from "../support/engines.js";
import { as, portier, records } from "../support/museum.js";

/** The overlay: how statements are planned for the current user, on tables whose owner is nobody greater. */
const onServer = servers.filter(([name]) => name === "PostgreSQL");

// A file without a test fails: where there is no server, it says so.
if (onServer.length === 0) it.skip("plans need a PostgreSQL server");

describe.each(onServer)("statements under row security on %s", (_name, openEngine) => {
  const run = `portier_${process.pid}_${Math.floor(Math.random() * 1e6)}`;
  const [app, guest, holder] = [`${run}_app`, `${run}_guest`, `${run}_owner`];
  const seen = `${run}_seen`;
  const overlay = `${seen}_app`;
  const readers = [`${seen}_reader`, `${seen}_reader_app`] as const;
  const [reader] = readers;
  let engine: Engine;
  let tables = "";
  const clients: pg.Client[] = [];
  const paths: Record<string, string> = { [app]: `${overlay}, ${seen}` };
  const superuser = (text: string) => (engine.script as (text: string) => Promise<unknown>)(text);
  const script = () => rowSecurity(portier, { schema: seen, tables, users: [guest], applications: [app] });

  async function login(user: string): Promise<pg.Client> {
    const client = await postgresLogin(user);
    clients.push(client);
    await client.query(`set search_path = ${paths[user] ?? seen}; set lock_timeout = 2000`);
    return client;
  }

  const owner = async (...texts: readonly string[]) => {
    const client = await login(holder);
    for (const text of texts) await client.query(text);
  };

  /** A connection in a transaction in which this person asks. */
  async function asking(person: string | null, client?: pg.Client): Promise<pg.Client> {
    const link = client ?? (await login(app));
    await link.query("begin");
    await link.query("select set_person($1)", [person]);
    return link;
  }

  /** The nodes of a plan from the top, each with the index that it uses. */
  async function planOf(client: pg.Client, text: string): Promise<string> {
    interface Node {
      readonly [name: string]: unknown;
      readonly Plans?: readonly Node[];
    }
    const shape = (node: Node): string => {
      const index = node["Index Name"] === undefined ? "" : ` ${node["Index Name"]}`;
      const inner = node.Plans === undefined ? "" : `(${node.Plans.map(shape).join(", ")})`;
      return `${node["Node Type"]}${index}${inner}`;
    };
    const { rows } = await client.query(`explain (format json) ${text}`);
    return shape(rows[0]["QUERY PLAN"][0].Plan);
  }

  const counted = async (client: pg.Client, text = "select count(*)::int as n from loans") =>
    (await client.query(text)).rows[0].n;
  const listed = (person: string | undefined, table = "loans") =>
    records(table).filter((row) => as(person).may("list", table, row)).length;

  beforeAll(async () => {
    engine = await openEngine();
    tables = engine.schema as string;
    paths[holder] = tables;
    await createTables(engine, portier.schema);
    for (const table of allTables(portier.schema)) await fill(engine, table, records(table.name));
    await superuser(`insert into objects (accession, title, department, status)
      select 'X' || n, 'Made up ' || n, 'textiles', 'registered' from generate_series(1, 20000) n`);
    await superuser(
      "create index by_title on objects (title); create index by_department on objects (department); analyze",
    );
    for (const user of [app, guest, holder]) await superuser(`create role ${user} login password 'made-up'`);
    await superuser(`alter schema ${tables} owner to ${holder}`);
    for (const table of allTables(portier.schema)) await superuser(`alter table "${table.source}" owner to ${holder}`);
    await superuser(
      `do $$ begin execute format('grant create on database %I to ${holder}', current_database()); end $$`,
    );
  });
  afterEach(async () => {
    for (const client of clients.splice(0)) await client.end();
  });
  afterAll(async () => {
    await owner(script().removal).catch(() => {});
    await superuser(
      `do $$ begin execute format('revoke create on database %I from ${holder}', current_database()); end $$`,
    );
    await superuser(`alter schema ${tables} owner to current_user; reassign owned by ${holder} to current_user`);
    for (const user of [app, guest, holder]) await superuser(`drop owned by ${user}; drop role ${user}`);
    await superuser(`drop role if exists ${readers.join(", ")}`);
    await engine?.close();
  });

  it("need a role that reads, which somebody must make", async () => {
    await expect(owner(script().migration)).rejects.toMatchObject({
      code: "42501",
      hint: `let somebody who may say: ${readers.map((one) => `create role ${one} nologin; grant ${one} to ${holder}`).join("; ")}`,
    });
    expect(await engine.run(`select 1 from pg_namespace where nspname = $1`, [seen])).toEqual([]);
    await superuser(`create role ${reader} login; create role ${readers[1]}; grant ${readers.join(", ")} to ${holder}`);
    await expect(owner(script().migration)).rejects.toMatchObject({
      message: `${reader} is not a role that policies hold for`,
    });
    await superuser(`alter role ${reader} nologin`);
    // Twice, as it can be run again.
    await owner(script().migration, script().migration);
    const client = await asking("s-003");
    expect(await counted(client)).toBe(listed("s-003"));
  });

  it("leave a role that others made, and take one away that they made themselves", async () => {
    const there = async () => (await engine.run("select 1 from pg_roles where rolname = any ($1)", [readers])).length;
    await owner(script().removal);
    expect(await there()).toBe(2);
    await superuser(`drop role ${readers.join(", ")}; alter role ${holder} createrole`);
    await owner(script().migration);
    expect(await there()).toBe(2);
    await owner(script().removal);
    expect(await there()).toBe(0);
    await owner(script().migration);
  });

  it("are told of who else may read what a policy lets through", async () => {
    await superuser(`grant ${reader} to ${guest}`);
    const client = await login(holder);
    const warnings: string[] = [];
    client.on("notice", ({ message }) => warnings.push(message ?? ""));
    await client.query(script().migration);
    expect(warnings).toContain(`${guest} is a member of ${reader}, and reads listed records with all their fields`);
    await superuser(`revoke ${reader} from ${guest}`);
  });

  describe("are planned like those that are written by hand", () => {
    it.each([
      ["a visitor counts", null, "select count(*) from T", "status = 'on_display'"],
      ["a director groups", "s-001", "select status, count(*) from T group by status", "true"],
      ["a director looks at the first by title", "s-001", "select title, status from T order by title limit 5", "true"],
      ["a keeper looks at the first by title", "s-003", "select title from T order by title limit 5", "true"],
      ["a keeper reads one record", "s-003", "select title from T where accession = 'X5'", "true"],
      [
        "a director joins",
        "s-001",
        "select l.id, o.title from LOANS l join T o on o.accession = l.object where l.id = 'L-2026-03'",
        "true",
      ],
    ])("when %s", async (_what, person, text, condition) => {
      const client = await asking(person);
      const plan = await planOf(client, text.replace("T", "objects").replace("LOANS", "loans"));
      const byHand = text.replace("T", `(select * from objects where ${condition}) t`).replace(" t o ", " o ");
      const hand = await login(holder);
      const other = await planOf(hand, byHand.replace("LOANS", "loans"));
      // It is asked once, before a row is read, whether the current user is still the same.
      expect(plan.replace(/Result\((.*)\)/, "$1")).toBe(other);
    });
  });

  describe("serve nobody else", () => {
    const elsewhere = {
      code: "55000",
      message: "this statement was planned for another user, or in another transaction",
      hint: `what is prepared by a name or stands in a function uses the views of the schema ${seen}`,
    };
    /** Runs what PostgreSQL keeps a plan of, as one person after the other, each in a transaction of their own. */
    async function kept(client: pg.Client, isOverlay: boolean, run: () => Promise<number>): Promise<void> {
      for (const [index, person] of ["s-001", "s-003", null, "s-007", "s-001"].entries()) {
        await asking(person, client);
        if (isOverlay && index > 0) {
          await expect(run(), `${person}`).rejects.toMatchObject(elsewhere);
          await client.query("rollback");
          continue;
        }
        // Often enough for PostgreSQL to keep one plan for all values.
        for (let time = 0; time < 7; time++) expect(await run(), `${person}`).toBe(listed(person ?? undefined));
        await client.query("commit");
        if (isOverlay) await expect(run(), "nobody").rejects.toMatchObject(elsewhere);
        else expect(await run(), "nobody").toBe(0);
      }
    }
    const from = (isOverlay: boolean) => `from ${isOverlay ? overlay : seen}.loans`;

    it.each([false, true])("prepared by a name (overlay: %s)", async (isOverlay) => {
      const client = await login(app);
      const text = `select count(*)::int as n ${from(isOverlay)} where id <> $1`;
      await kept(
        client,
        isOverlay,
        async () => (await client.query({ name: "count loans", text, values: ["x"] })).rows[0].n,
      );
    });

    it.each([false, true])("prepared by a statement (overlay: %s)", async (isOverlay) => {
      const client = await login(app);
      // Where a plan is made when it is prepared, nothing was said yet.
      await client.query(`prepare count_loans as select count(*)::int as n ${from(isOverlay)}`);
      await kept(client, isOverlay, () => counted(client, "execute count_loans"));
    });

    it.each([
      ["sql", "select count(*)::int F", false],
      ["plpgsql", "begin return (select count(*)::int F); end", false],
      ["plpgsql", "begin return (select count(*)::int F); end", true],
    ])("in a function in %s: %s (overlay: %s)", async (language, body, isOverlay) => {
      const client = await login(app);
      await client.query(
        `create function pg_temp.counted() returns int language ${language} stable as $$ ${body.replace("F", from(isOverlay))} $$`,
      );
      await kept(client, isOverlay, () => counted(client, "select pg_temp.counted() as n"));
      if (isOverlay) return;
      await asking(null, client);
      const each =
        "select (select set_person(p) is null) as said, pg_temp.counted() as n from unnest(array['s-001', 's-003']) p";
      const { rows } = await client.query(each);
      expect(rows.map(({ n }) => n)).toEqual([listed("s-001"), listed("s-003")]);
    });

    it("when it is said by nobody, or by who may not", async () => {
      const nobody = await login(app);
      await expect(counted(nobody)).rejects.toMatchObject({
        code: "42501",
        message: "no current user was set in this transaction",
      });
      // Not even where somebody gave them the views.
      await owner(`grant usage on schema ${overlay} to ${guest}; grant select on ${overlay}.loans to ${guest};
        grant execute on all functions in schema ${seen}_internal to ${guest}`);
      const client = await login(guest);
      const told = await asking("s-001");
      const planned = (await counted(told, "select current_setting('portier.planned') as n")) as string;
      await told.query("commit");
      const own = "concat(pg_backend_pid(), ' ', extract(epoch from now()), ' ')";
      for (const setting of [`'${planned}'`, own, "''"]) {
        await client.query("begin");
        await client.query(
          `select set_config('portier.truths', '[meets][director]', true), set_config('portier.planned', ${setting}, true)`,
        );
        await expect(counted(client, `select count(*)::int as n from ${overlay}.loans`)).rejects.toMatchObject({
          code: "42501",
          message: "these views are for who may set the current user",
        });
        await client.query("rollback");
      }
      await owner(script().migration);
      await expect(counted(client, `select count(*)::int as n from ${overlay}.loans`)).rejects.toMatchObject({
        code: "42501",
      });
    });

    it("when somebody else is said to ask, or it is undone that somebody did", async () => {
      const client = await asking("s-001");
      await client.query("savepoint before");
      await client.query("select set_person(null)");
      expect(await counted(client)).toBe(listed(undefined));
      await client.query("rollback to savepoint before");
      expect(await counted(client)).toBe(listed("s-001"));
    });

    // A cursor that was fetched from once went on for the next person, and one "with hold" in the next transaction.
    it.each(["cursor", "scroll cursor", "cursor with hold"])(
      "while a %s is open, nobody else is said to ask",
      async (kind) => {
        const isOpen = {
          code: "55000",
          message: "a cursor is open, and would go on showing what another user may see",
        };
        const client = await asking("s-001");
        await client.query(`declare all_loans ${kind} for select id from loans`);
        const { rows } = await client.query("fetch 1 from all_loans");
        expect(rows).toHaveLength(1);
        if (kind.endsWith("hold")) {
          await client.query("commit");
          await client.query("begin");
        }
        await client.query("savepoint before");
        await expect(client.query("select set_person('s-008')")).rejects.toMatchObject(isOpen);
        await client.query("rollback to savepoint before");
        // As drivers send it, with values apart from the text.
        await expect(client.query("select set_person($1)", ["s-008"])).rejects.toMatchObject(isOpen);
        await client.query("rollback to savepoint before");
        await client.query("do $$ begin perform 1; end $$");
        await client.query("close all");
        await client.query("select set_person($1)", ["s-008"]);
        await expect(client.query("fetch all from all_loans")).rejects.toMatchObject({ code: "34000" });
        await client.query("rollback");
      },
    );

    it("nor inside a loop that reads what somebody else sees", async () => {
      const client = await asking("s-001");
      const loop = `do $f$ declare r record; n int := 0; begin
        for r in select id from loans loop
          n := n + 1;
          perform set_person(null);
        end loop;
      end $f$`;
      await expect(client.query(loop)).rejects.toMatchObject({ code: "55000" });
      await client.query("rollback");
    });

    it("when the setting is changed while they are planned", async () => {
      const client = await asking("s-001");
      const { rows } = await client.query(
        "select current_setting('portier.subject') as subject, current_setting('portier.planned') as planned",
      );
      const { subject, planned } = rows[0];
      await client.query("commit");
      await asking("s-003", client);
      await client.query(`create function pg_temp.change() returns int language plpgsql immutable as
        $f$ begin perform set_config('portier.subject', $g$${subject}$g$, true),
          set_config('portier.planned', $g$${planned}$g$, true); return 1; end $f$`);
      for (const [views, from] of [seen, overlay].map((schema) => [schema, `from ${schema}.objects`])) {
        for (const text of [
          `select count(*), pg_temp.change() ${from}`,
          `select pg_temp.change(), count(insured_value) ${from}`,
          `select count(*) ${from} where pg_temp.change() = 1`,
          ...(views === overlay ? [`explain analyze select count(*) ${from} where pg_temp.change() = 1`] : []),
        ]) {
          await client.query("savepoint before");
          await expect(client.query(text), text).rejects.toMatchObject({
            code: expect.stringMatching(/^(42501|55000)$/),
          });
          await client.query("rollback to savepoint before");
        }
      }
      expect(await counted(client)).toBe(listed("s-003"));
    });
  });

  it("tell whoever logs in as themselves nothing by their plans", async () => {
    await owner(`insert into ${seen}_internal.logins values ('${guest}', 's-003')`);
    const client = await login(guest);
    expect(await counted(client)).toBe(listed("s-003"));
    const { rows } = await client.query("explain (verbose) select * from objects");
    expect(rows.map((row) => row["QUERY PLAN"]).join("\n")).not.toContain("s-003");
    expect((await client.query("select current_setting('portier.subject', true) as told")).rows).toEqual([
      { told: null },
    ]);
    await owner(`delete from ${seen}_internal.logins`);
  });

  describe("see no more", () => {
    it.each([
      ["of another's policy", "create policy wide on loans using (true)", "drop policy wide on loans"],
      [
        "of a right that is given on the table",
        `grant select on loans to ${app}`,
        `revoke select on loans from ${app}`,
      ],
    ])("because %s", async (_what, change, back) => {
      await owner(change);
      const client = await asking("s-007");
      expect(await counted(client)).toBe(listed("s-007"));
      await client.query("commit");
      await owner(back);
    });

    it.each([
      [
        "row security is switched off",
        "alter table loans disable row level security",
        "alter table loans enable row level security",
      ],
      [
        "the views were copied without their roles",
        "alter view SEEN.loans owner to OWNER; alter function INSIDE.rls_active(regclass) owner to OWNER; alter view SEEN_app.loans owner to OWNER; alter function INSIDE.planned(regclass) owner to OWNER",
        "alter view SEEN.loans owner to READER; alter function INSIDE.rls_active(regclass) owner to READER; alter view SEEN_app.loans owner to READER_app; alter function INSIDE.planned(regclass) owner to READER_app",
      ],
    ])("where %s: then nothing", async (_what, change, back) => {
      const named = (text: string) =>
        text
          .replaceAll("SEEN", seen)
          .replaceAll("OWNER", holder)
          .replaceAll("READER", reader)
          .replaceAll("INSIDE", `${seen}_internal`);
      await superuser(`set search_path = ${tables}; ${named(change)}`);
      const client = await asking("s-001");
      await client.query("savepoint before");
      for (const schema of [seen, overlay]) {
        await expect(client.query(`select * from ${schema}.loans`), schema).rejects.toMatchObject({
          code: "42501",
          message: expect.stringContaining("row security is not active on"),
        });
        await client.query("rollback to savepoint before");
      }
      await superuser(`set search_path = ${tables}; ${named(back)}`);
    });

    it("by operators and functions of their own that a search path finds first", async () => {
      const mine = `mine_${run}`;
      await superuser(`create schema ${mine} authorization ${app}; grant usage on schema ${mine} to public`);
      const client = await login(app);
      await client.query(`set search_path = ${mine}`);
      for (const type of ["text", "int", "numeric", "jsonb", "bytea", "boolean"]) {
        await client.query(`create function same(${type}, ${type}) returns boolean language plpgsql immutable as
          $f$ begin raise exception 'mine was run as %', current_user; end $f$`);
        for (const operator of ["=", "<>", ">", "@>", "->", "->>", "~*"]) {
          await client.query(`create operator ${operator} (function = same, leftarg = ${type}, rightarg = ${type})`);
        }
        await client.query(`create function joint(${type}, ${type}) returns ${type} language plpgsql immutable as
          $f$ begin raise exception 'mine was run as %', current_user; end $f$;
          create operator || (function = joint, leftarg = ${type}, rightarg = ${type})`);
      }
      await client.query(`create function length(text) returns int language sql as 'select 1/0';
        create function current_setting(text, boolean) returns text language sql as 'select (1/0)::text'`);
      await client.query(`begin; set local search_path = ${mine}, pg_catalog`);
      await client.query(`select ${seen}.set_person('s-001')`);
      for (const schema of [seen, overlay]) {
        await client.query(`do $$ begin perform count(*) from ${schema}.loans; end $$`);
        expect(await counted(client, `select count(*)::int as n from ${schema}.loans`)).toBe(listed("s-001"));
      }
      await client.query("rollback");
      await superuser(`drop schema ${mine} cascade`);
    });

    it("by a session that would pass by row security", async () => {
      const client = await asking("s-001");
      await client.query("set local row_security = off");
      await expect(client.query("select * from loans")).rejects.toMatchObject({ code: "42501" });
    });
  });
});
