import { spawnSync } from "node:child_process";
import pg from "pg";
import { compile } from "portier";
import { rowSecurity } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { allTables, createTables, type Engine, fill, postgresLogin, servers } from "../support/engines.js";
import { as, portier, record, records } from "../support/museum.js";

/** Row security on the server, as the database users who are kept out by it. */
const onServer = servers
  .filter(([name]) => name === "PostgreSQL")
  .flatMap(([name, open]) => [[name, open, false] as const, [`${name}, through the overlay`, open, true] as const]);
const now = "2026-11-24T09:00:00Z";

describe.each(onServer)("row security of the museum on %s", (_name, openEngine, isOverlay) => {
  const run = `portier_${process.pid}_${Math.floor(Math.random() * 1e6)}`;
  const [app, guest, keeper] = [`${run}_app`, `${run}_guest`, `${run}_keeper`];
  const seen = `${run}_seen`;
  /** Where the application looks for what it names. */
  const views = isOverlay ? `${seen}_app, ${seen}` : seen;
  let engine: Engine;
  let tables = "";
  const clients: pg.Client[] = [];
  const owner = (text: string) => (engine.script as (text: string) => Promise<unknown>)(text);
  const options = () => ({ schema: seen, tables, users: [guest, keeper], applications: [app] });

  async function login(user: string): Promise<pg.Client> {
    const client = await postgresLogin(user);
    clients.push(client);
    await client.query(`set search_path = ${user === app ? views : seen}`);
    return client;
  }

  /** Runs statements as a person, in a transaction that is not kept; gives the rows of the last, or the error. */
  async function asPerson(
    person: string | null,
    ...statements: readonly string[]
  ): Promise<readonly object[] | pg.DatabaseError> {
    const client = await login(app);
    await client.query("begin");
    await client.query(`select set_person($1, $2)`, [person, JSON.stringify({ now })]);
    try {
      let rows: readonly object[] = [];
      for (const statement of statements) rows = (await client.query(statement)).rows;
      return rows;
    } catch (error) {
      return error as pg.DatabaseError;
    } finally {
      await client.query("rollback");
      await client.end();
    }
  }

  const psql = (input: string, ...more: string[]) => {
    const address = new URL(process.env["PORTIER_POSTGRES"] as string);
    address.username = app;
    address.password = "made-up";
    const args = ["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", address.href, ...more];
    return spawnSync("psql", args, { input: `begin; set search_path = ${views};\n${input}`, encoding: "utf8" });
  };

  beforeAll(async () => {
    engine = await openEngine();
    tables = engine.schema as string;
    await createTables(engine, portier.schema);
    for (const table of allTables(portier.schema)) await fill(engine, table, records(table.name));
    await owner(`alter table objects add constraint worth check (insured_value < 1000000000)`);
    await owner(`alter table loans add constraint loans_object foreign key (object) references objects`);
    for (const user of [app, guest, keeper]) await owner(`create role ${user} login password 'made-up'`);
    await owner(
      `grant usage on schema ${tables} to ${app}; grant all on all tables in schema ${tables} to ${app} with grant option`,
    );
    await owner(`grant select (title) on objects to ${guest}`);
    await owner(rowSecurity(portier, options()).migration);
    await owner(`insert into ${seen}_internal.logins values ('${keeper}', 's-003')`);
  });
  afterAll(async () => {
    for (const client of clients) await client.end().catch(() => {});
    await owner(rowSecurity(portier, options()).removal).catch(() => {});
    for (const user of [app, guest, keeper]) await owner(`drop owned by ${user}; drop role ${user}`);
    await engine?.close();
  });

  it("shows everybody of every table what their session shows", async () => {
    const persons = [...records("staff").map(({ id }) => String(id)), undefined];
    for (const person of persons) {
      const session = as(person);
      const client = await login(app);
      await client.query("begin");
      await client.query("select set_person($1, $2)", [person ?? null, JSON.stringify({ now })]);
      for (const table of portier.schema.tables.values()) {
        const { rows } = await client.query(`select count(*)::int as n from "${table.source}"`);
        const listed = records(table.name).filter((row) => session.may("list", table.name, row));
        expect(rows[0], `${person} ${table.name}`).toEqual({ n: listed.length });
      }
      await client.end();
    }
  }, 60_000);

  it("answers joins, groups and subqueries as on copies of what is shown", async () => {
    const statements = [
      "select o.accession, o.label, t.* from objects o left join treatments t on t.object = o.accession",
      "select t.id, o.* from treatments t full join objects o on t.object = o.accession and o.shelf > ''",
      "select s.id, m.post, m.site from staff s left join staff m on m.id = s.manager",
      "select status, count(*), count(label), max(insured_value) from objects group by rollup (status)",
      "select (select count(conservator) from treatments where object = accession) as n from objects",
      "select distinct on (department) department, label from objects order by department, accession",
      "select label from objects union select title from exhibitions except select material from objects",
      "with w as materialized (select * from objects) select label, s.* from w right join staff s on s.id = keeper",
    ].map((text) => `select jsonb_agg(to_jsonb(x) order by to_jsonb(x)::text) as all from (${text}) x`);
    for (const person of ["s-001", "s-003", "s-005", "s-009", null]) {
      const client = await login(app);
      const answers = async (isPrepared: boolean) => {
        const found: unknown[] = [];
        for (const [at, text] of statements.entries()) {
          found.push((await client.query(isPrepared ? { name: `statement ${at}`, text } : text)).rows);
        }
        return found;
      };
      await client.query("begin");
      await client.query("select set_person($1, $2)", [person, JSON.stringify({ now })]);
      // Compiled, the statements below take twenty times as long.
      expect((await client.query("show jit")).rows).toEqual([{ jit: "off" }]);
      const planned = await answers(false);
      const prepared = await answers(true);
      for (const { source } of portier.schema.tables.values()) {
        // From now on the name is that of the copy.
        await client.query(`create temporary table "${source}" as select * from ${seen}."${source}"`);
      }
      const expected = await answers(false);
      expect(planned, `${person}`).toEqual(expected);
      expect(prepared, `${person}`).toEqual(expected);
      await client.end();
    }
  });

  describe("hidden values do not get out", () => {
    const hidden = String(record("objects", "BM-SH-0003")["insured_value"]);
    const told = (what: unknown) => expect(JSON.stringify(what) ?? "").not.toContain(hidden);

    it.each([
      ["a function that tells what it is given", "select * from objects where pg_temp.tell(insured_value::text)"],
      ["a function that tells of records", "select * from objects where pg_temp.tell(accession || shelf)"],
      [
        "a cast that fails with the value",
        "select cast(insured_value::text || 'x' as numeric) from objects where insured_value is not null",
      ],
      ["a division", "select 1 / (insured_value - insured_value) from objects"],
      ["an aggregate", "select max(insured_value), string_agg(insured_value::text, ',') from objects"],
      ["groups", "select insured_value, count(*) from objects group by insured_value"],
      ["a window", "select accession, rank() over (order by insured_value desc nulls last) from objects"],
      ["a whole row", "select to_jsonb(o) from objects o"],
      ["what is returned of a change", "update objects set label = 'x' where accession = 'BM-SH-0003' returning *"],
      ["a filter of a change", `update objects set label = 'x' where insured_value = ${hidden} returning accession`],
    ])("by %s", async (_what, statement) => {
      const client = await login(app);
      const notices: string[] = [];
      client.on("notice", ({ message }) => notices.push(message ?? ""));
      await client.query("begin");
      await client.query("select set_person('s-003')");
      await client.query(`create function pg_temp.tell(text) returns boolean language plpgsql cost 0.0001
        as $$ begin raise notice 'saw %', $1; return true; end $$`);
      const outcome = await client.query(statement).then(
        ({ rows }) => rows,
        ({ message, detail, where }: pg.DatabaseError) => ({ message, detail, where }),
      );
      expect(record("objects", "BM-SH-0003")).toMatchObject({ department: "ships" });
      told(outcome);
      told(notices);
      expect(notices.filter((one) => /saw (BM-IN|BM-TX)/.test(one))).toEqual([]);
      await client.end();
    });

    it("nor do records, by a function that a filter tries", async () => {
      const client = await login(app);
      const notices: string[] = [];
      client.on("notice", ({ message }) => notices.push(message ?? ""));
      await client.query("begin");
      await client.query("select set_person(null)");
      await client.query(`create function pg_temp.tell(text) returns boolean language plpgsql cost 0.0001
        as $$ begin raise notice '%', $1; return true; end $$`);
      const { rows } = await client.query("select accession from objects where pg_temp.tell(accession)");
      expect(rows.length).toBeGreaterThan(0);
      expect(notices.sort()).toEqual(rows.map(({ accession }) => accession).sort());
      await client.end();
    });

    it.each([
      [
        "a key that is taken",
        "insert into objects (accession, title, department, status) values ('BM-SH-0001', 'x', 'ships', 'registered')",
        "23505",
      ],
      ["a missing value", "insert into objects (accession, department) values (null, 'ships')", "23502"],
      ["a check", "update objects set insured_value = 1000000001 where accession = 'BM-SH-0003'", "23514"],
      ["a reference from elsewhere", "delete from objects", "23503"],
    ])("by the database's message about %s", async (_what, statement, code) => {
      const outcome = (await asPerson("s-001", statement)) as pg.DatabaseError;
      expect(outcome).toMatchObject({ code });
      expect(outcome.detail).toBeUndefined();
      told(outcome.message);
    });
  });

  describe("the tables themselves are closed", () => {
    it.each([
      "select * from T.objects",
      "select title from T.objects",
      "insert into T.objects (accession) values ('x')",
      "update T.objects set title = 'x'",
      "delete from T.objects",
      "truncate T.objects",
      "begin; lock T.objects",
      "copy T.objects to stdout",
      "create trigger t before insert on T.objects for each row execute function suppress_redundant_updates_trigger()",
    ])("to %s", async (statement) => {
      await owner(`grant usage on schema ${tables} to ${guest}`);
      for (const user of [app, guest]) {
        const client = await login(user);
        await expect(client.query(statement.replace("T.", `${tables}.`)), user).rejects.toMatchObject({
          code: "42501",
        });
        await client.end();
      }
    });

    it("also to whoever is given a right on them by mistake", async () => {
      await owner(`grant select, update on objects to ${guest}`);
      const client = await login(guest);
      expect((await client.query(`select * from ${tables}.objects`)).rows).toEqual([]);
      expect((await client.query(`update ${tables}.objects set title = 'x'`)).rowCount).toBe(0);
      await owner(`revoke select, update on objects from ${guest}`);
    });
  });

  describe("the current user", () => {
    it("is nobody until it is said, and after the transaction", async () => {
      const client = await login(app);
      const count = async () => (await client.query(`select count(*)::int as n from ${seen}.objects`)).rows[0].n;
      expect(await count()).toBe(0);
      await client.query("begin");
      await client.query("select set_person('s-003')");
      expect(await count()).toBe(records("objects").length);
      await client.query("commit");
      expect(await count()).toBe(0);
    });

    it("is said by the application alone", async () => {
      const client = await login(guest);
      await expect(client.query("select set_person('s-001')")).rejects.toMatchObject({ code: "42501" });
      await expect(client.query(`select * from ${seen}_internal.secret`)).rejects.toMatchObject({ code: "42501" });
      await expect(client.query(`select ${seen}_internal.said()`)).rejects.toMatchObject({ code: "42501" });
      expect((await client.query("select count(*)::int as n from objects")).rows).toEqual([{ n: 0 }]);
    });

    it("is not taken from a setting that somebody else made, or at another time", async () => {
      const client = await login(app);
      await client.query("begin");
      await client.query("select set_person('s-001')");
      const settings = "select current_setting('portier.subject') as sealed";
      const { sealed } = (await client.query(settings)).rows[0];
      await client.query("commit");
      const forged = [
        sealed,
        sealed.replace("s-001", "s-003"),
        '{"person": "s-001"}',
        `${"0".repeat(64)}{"person": "s-001"}`,
      ];
      const other = await login(guest);
      // How the setting begins for a login that may set the current user, in this very transaction.
      const stamp = "select rpad(concat(pg_backend_pid(), ' ', extract(epoch from now()), ' '), 64) as stamp";
      for (const link of [client, other]) {
        for (const setting of [...forged, undefined]) {
          if (link === client && setting === undefined) continue;
          await link.query("begin");
          const { rows } = await link.query(stamp);
          const made = setting ?? `${rows[0].stamp}${sealed.slice(64)}`;
          await link.query("select set_config('portier.subject', $1, true)", [made]);
          await expect(link.query(`select count(*) from ${seen}.objects`)).rejects.toMatchObject({ code: "42501" });
          await link.query("rollback");
        }
        // What is worked out of it is set again by whoever asks for it.
        await link.query("begin");
        await link.query(`select set_config('portier.claims', '{"person": "s-001"}', true)`);
        const { rows } = await link.query(`select count(*)::int as n from ${seen}.objects`);
        expect(rows).toEqual([{ n: 0 }]);
        await link.query("rollback");
      }
    });

    it("is not what a session began with", async () => {
      const settings = ["claims", "subject", "planned", "truths", "confirmed"].map(
        (name) => `-c portier.${name}={"person":"s-001"}[meets][director]`,
      );
      for (const user of [guest, app]) {
        const address = new URL(process.env["PORTIER_POSTGRES"] as string);
        [address.username, address.password] = [user, "made-up"];
        for (const options of [...settings, '-c portier.claims={"person":"s-001"}']) {
          const client = new pg.Client({ connectionString: address.href, options });
          await client.connect();
          const count = `select count(*)::int as n from ${seen}.objects`;
          const outcome = await client.query(count).then(
            ({ rows }) => rows[0].n,
            ({ code }) => code,
          );
          expect([0, "42501"], options).toContain(outcome);
          if (user === app) {
            await client.query(`begin; select ${seen}.set_person('s-999')`);
            for (const views of [seen, `${seen}_app`])
              expect((await client.query(count.replace(seen, views))).rows, options).toEqual([{ n: 0 }]);
          }
          await client.end();
        }
      }
    });

    it("is proved for a login that may not set it, where a function of the application does", async () => {
      const client = await login(app);
      await client.query(`create function pg_temp.enter() returns void language sql security definer as
        $$ select ${seen}.set_person('s-003') $$; grant execute on function pg_temp.enter() to ${guest}`);
      const { rows } = await client.query("select pg_my_temp_schema()::regnamespace::text as place");
      const other = await login(guest);
      await owner(`grant usage on schema ${rows[0].place} to ${guest}`);
      await other.query("begin");
      await other.query(`select ${rows[0].place}.enter()`);
      const count = `select count(*)::int as n from ${seen}.objects`;
      expect((await other.query(count)).rows).toEqual([{ n: records("objects").length }]);
      const { rows: told } = await other.query("select current_setting('portier.subject') as sealed");
      for (const made of [told[0].sealed.replace("s-003", "s-001"), told[0].sealed.slice(0, 64)]) {
        await other.query("savepoint before");
        await other.query("select set_config('portier.subject', $1, true)", [made]);
        await expect(other.query(count)).rejects.toMatchObject({ code: "42501" });
        await other.query("rollback to savepoint before");
      }
      await other.query("commit");
      expect((await other.query(count)).rows).toEqual([{ n: 0 }]);
      await client.end();
    });

    it("is the same whatever the session says of dates", async () => {
      const client = await login(app);
      const opened = records("exhibitions").filter((row) => as().may("list", "exhibitions", row)).length;
      await client.query("begin; set local datestyle = 'SQL, DMY'; set local timezone = 'Pacific/Auckland'");
      await client.query("select set_person(null, $1)", [JSON.stringify({ now })]);
      await client.query("set local datestyle = 'SQL, MDY'; set local timezone = 'America/Lima'");
      expect((await client.query("select count(*)::int as n from exhibitions")).rows).toEqual([{ n: opened }]);
      await client.end();
    });

    it("is the person of a login that has one", async () => {
      const client = await login(keeper);
      const { rows } = await client.query("select insured_value, shelf from objects where accession = 'BM-SH-0003'");
      expect(rows).toEqual([{ insured_value: null, shelf: record("objects", "BM-SH-0003")["shelf"] }]);
    });

    it.each([
      ["a person who is not there", "s-999"],
      ["a person who is not active", String(records("staff").find(({ active }) => active === false)?.["id"])],
    ])("meets nothing when it is %s", async (_what, person) => {
      expect(person).not.toBe("undefined");
      expect(await asPerson(person, "select * from objects")).toEqual([]);
      expect(await asPerson(person, "insert into objects (accession) values ('x')")).toMatchObject({ code: "42501" });
    });

    it("is a fault when a role is none", async () => {
      await owner(`update staff set post = 'janitor' where id = 's-003'`);
      const client = await login(app);
      await client.query("begin");
      await expect(client.query("select set_person('s-003')")).rejects.toMatchObject({ code: "22000" });
      await owner(`update staff set post = 'keeper' where id = 's-003'`);
    });
  });

  describe("changes", () => {
    const refused = { code: "42501" };
    it.each<[string, string | null, string, object]>([
      [
        "of a permitted field",
        "s-003",
        "update objects set label = 'x' where accession = 'BM-SH-0003' returning label",
        [{ label: "x" }],
      ],
      [
        "of one that is not",
        "s-003",
        "update objects set insured_value = 1 where accession = 'BM-SH-0003'",
        { ...refused, message: "not permitted: edit objects (insured_value)" },
      ],
      [
        "by the way of another's hand",
        "s-003",
        "update objects set status = 'withdrawn' where accession = 'BM-SH-0003'",
        { ...refused, detail: expect.stringContaining("director's hand") },
      ],
      ["of many, one of which is refused", "s-003", "update objects set label = 'x'", refused],
      [
        "of a record that is not seen",
        null,
        "update objects set label = 'x' where accession = 'BM-SH-0003' returning 1",
        [],
      ],
      [
        "of nothing",
        "s-003",
        "update objects set label = label returning 1",
        expect.objectContaining({ length: records("objects").length }),
      ],
      [
        "to a record that there is not",
        "s-001",
        "update objects set keeper = 's-999' where accession = 'BM-SH-0003'",
        { code: "23503", message: "no such record (keeper)" },
      ],
      [
        "that make another's loan",
        "s-003",
        "insert into loans (id, object, borrower, requested_by, starts_on, ends_on) values ('L-x', 'BM-SH-0003', 'b', 's-001', '2027-01-01', '2027-02-01')",
        refused,
      ],
      [
        "that make one's own",
        "s-003",
        "insert into loans (id, object, borrower, starts_on, ends_on) values ('L-x', 'BM-SH-0003', 'b', '2027-01-01', '2027-02-01') returning requested_by, status",
        [{ requested_by: "s-003", status: "draft" }],
      ],
      ["that are not to be", "s-003", "delete from objects where accession = 'BM-SH-0003'", refused],
      [
        "with a way out for a conflict",
        "s-003",
        "insert into objects (accession, title, department) values ('BM-SH-0001', 'x', 'ships') on conflict do nothing",
        refused,
      ],
      [
        "that update on a conflict",
        "s-001",
        "insert into objects (accession, title, department) values ('BM-SH-0001', 'x', 'ships') on conflict (accession) do update set title = 'x'",
        { code: "42P10" },
      ],
      [
        "of a merge",
        "s-003",
        "merge into objects o using (values ('BM-SH-0003')) v(key) on o.accession = v.key when matched then update set insured_value = 1",
        expect.any(pg.DatabaseError),
      ],
    ])("%s", async (_what, person, statement, outcome) => {
      const found = await asPerson(person, statement);
      if (Array.isArray(outcome)) expect(found).toEqual(outcome);
      else if (Array.isArray(found)) expect(found).toEqual(outcome);
      else
        expect({ ...found, message: (found as Error).message }).toEqual(
          outcome instanceof Object && "asymmetricMatch" in outcome
            ? expect.anything()
            : expect.objectContaining(outcome),
        );
    });

    it("wait for a confirmation", async () => {
      const onLoan = records("objects").find(({ status }) => status === "on_loan")?.["accession"];
      const change = `update objects set shelf = 'N1' where accession = '${onLoan}' returning shelf`;
      const open = await asPerson("s-001", change);
      expect(open).toMatchObject({
        code: "P0001",
        message: "to be confirmed: edit objects: The object is on loan. Is it really back?",
        hint: expect.stringContaining("objects/what-is-on-loan-is-not-here"),
      });
      const confirmed = "select confirm('objects/what-is-on-loan-is-not-here')";
      expect(await asPerson("s-001", confirmed, change)).toEqual([{ shelf: "N1" }]);
      // A second confirmation once replaced the first.
      const another = "select confirm('plan/totals-are-worked-out')";
      expect(await asPerson("s-001", confirmed, another, change)).toEqual([{ shelf: "N1" }]);
    });

    it("are judged on the record as another left it", async () => {
      const [first, second] = [await login(app), await login(app)];
      for (const client of [first, second]) {
        await client.query("begin");
        await client.query("select set_person('s-003')");
      }
      const loan = String(
        records("loans").find((row) => row["requested_by"] === "s-003" && row["status"] === "draft")?.["id"],
      );
      expect(loan).not.toBe("undefined");
      await first.query("update loans set status = 'requested' where id = $1", [loan]);
      const waiting = second.query("update loans set borrower = 'somebody' where id = $1", [loan]);
      const outcome = expect(waiting).rejects.toMatchObject(refused);
      await first.query("commit");
      await outcome;
      await second.query("rollback");
      await owner(`update loans set status = 'draft' where id = '${loan}'`);
    });

    it("come from a file line by line, and one that is refused ends them all", () => {
      const line = (id: string, status: string) => `${id}\tBM-SH-0003\tb\t${status}\t2027-01-01\t2027-02-01\n`;
      const copy = (lines: string) =>
        psql(
          `select set_person('s-003');\ncopy loans (id, object, borrower, status, starts_on, ends_on) from stdin;\n${lines}\\.\nselect count(*) from loans where id like 'X%';\nrollback;\n`,
        );
      expect(copy(line("X1", "draft") + line("X2", "draft")).stdout.trim()).toBe("2");
      expect(copy(line("X1", "draft") + line("X2", "approved")).stderr).toContain("not permitted: create loans");
    });

    it("go out to a file as they are seen", () => {
      const { stdout } = psql(
        "select set_person('s-003');\ncopy (select insured_value, shelf from objects where accession = 'BM-SH-0003') to stdout;\nrollback;\n",
      );
      expect(stdout.trim()).toBe(`\\N\t${record("objects", "BM-SH-0003")["shelf"]}`);
    });
  });

  // One migration makes both.
  if (isOverlay) return;
  describe("the migration", () => {
    it("can be run again, and keeps who may use it", async () => {
      await owner(`select ${seen}_internal.admit('${guest}', false)`);
      await owner(rowSecurity(portier, { schema: seen, tables }).migration);
      expect(await asPerson("s-003", "select count(*)::int as n from objects")).toEqual([
        { n: records("objects").length },
      ]);
      const client = await login(guest);
      expect((await client.query("select count(*)::int as n from objects")).rows).toEqual([{ n: 0 }]);
    });

    it("takes away no view that is not its own, and changes nothing where one stands in the way", async () => {
      await owner(
        `create view ${seen}.mine as select 1 as one; create view ${seen}.of_objects as select title from ${seen}.objects`,
      );
      await expect(owner(rowSecurity(portier, options()).migration)).rejects.toMatchObject({ code: "2BP01" });
      await owner("rollback");
      await owner(`drop view ${seen}.of_objects`);
      await owner(rowSecurity(portier, options()).migration);
      await owner(`drop view ${seen}.mine`);
    });

    it("leaves row security that was there before where it was", async () => {
      await owner(rowSecurity(portier, options()).removal);
      await owner(`alter table partners enable row level security`);
      await owner(rowSecurity(portier, options()).migration);
      await owner(rowSecurity(portier, options()).removal);
      const secured = "select relname from pg_class where relrowsecurity and relnamespace = $1::regnamespace";
      expect(await engine.run(secured, [tables])).toEqual([{ relname: "partners" }]);
      await owner(`alter table partners disable row level security`);
      await owner(rowSecurity(portier, options()).migration);
    });

    it("can be run again under the longest of names", async () => {
      const long = { ...options(), schema: `${seen}_${"x".repeat(51 - seen.length)}` };
      await owner(rowSecurity(portier, long).migration);
      await owner(rowSecurity(portier, long).migration);
      await owner(rowSecurity(portier, long).removal);
      // That took row security away from both.
      await owner(rowSecurity(portier, options()).migration);
    });

    it("leaves the overlay out, and puts it there again", async () => {
      const there = async () => {
        const schemas = await engine.run("select 1 from pg_namespace where nspname = $1", [`${seen}_app`]);
        const roles = await engine.run("select 1 from pg_roles where rolname = $1", [`${seen}_reader_app`]);
        return [schemas.length, roles.length];
      };
      await owner(rowSecurity(portier, { ...options(), withoutOverlay: true }).migration);
      expect(await there()).toEqual([0, 0]);
      expect(await asPerson("s-003", "select count(*)::int as n from objects")).toEqual([
        { n: records("objects").length },
      ]);
      await owner(rowSecurity(portier, options()).migration);
      expect(await there()).toEqual([1, 1]);
    });

    it("is for the owner of the tables", async () => {
      const client = await login(app);
      await expect(client.query(rowSecurity(portier, options()).migration)).rejects.toMatchObject({
        message: expect.stringContaining("belongs to somebody else"),
      });
    });

    it("names the doors that it does not close", async () => {
      await owner(
        `create view ${tables}.aside as select * from ${tables}.objects; grant select on ${tables}.aside to ${guest}`,
      );
      const client = new pg.Client({ connectionString: process.env["PORTIER_POSTGRES"] as string });
      await client.connect();
      const warnings: string[] = [];
      client.on("notice", ({ severity, message }) => severity === "WARNING" && warnings.push(message ?? ""));
      await client.query(rowSecurity(portier, options()).migration);
      await client.end();
      expect(warnings.filter((one) => one.includes("aside"))).toEqual([
        `the view ${tables}.aside lets past these rules whoever may use it`,
      ]);
      await owner(`drop view ${tables}.aside`);
    });

    it("is taken away without a trace, and the rights on the tables are as before", async () => {
      await owner(rowSecurity(portier, options()).removal);
      const client = await login(guest);
      expect((await client.query(`select title from ${tables}.objects limit 1`)).rows).toHaveLength(1);
      await expect(client.query(`select * from ${tables}.objects`)).rejects.toMatchObject({ code: "42501" });
      const other = await login(app);
      await other.query(`begin; delete from ${tables}.loans; rollback`);
      expect(await engine.run("select nspname from pg_namespace where nspname like $1", [`${seen}%`])).toEqual([]);
      expect(
        await engine.run("select relname from pg_class where relrowsecurity and relnamespace = $1::regnamespace", [
          tables,
        ]),
      ).toEqual([]);
      expect(await engine.run("select policyname from pg_policies where schemaname = $1", [tables])).toEqual([]);
      expect(await engine.run("select rolname from pg_roles where rolname like $1", [`${seen}%`])).toEqual([]);
    });
  });
});

describe("what row security cannot hold", () => {
  it("is said of each rule that asks for it", () => {
    const rules = {
      seen: { to: "anyone", permit: { view: "all" } },
      opened: { to: "anyone", where: "title = 'a'", deny: { list: ["note"] } },
      out: { to: "anyone", deny: { export: ["title"], bulk: ["title"] } },
    } as const;
    const fields = { id: "text", title: "text", note: "text" } as const;
    const { warnings } = rowSecurity(
      compile({ portier: 1, tables: { a: { key: "id", actions: ["send"], fields, rules } } }),
    );
    expect(warnings).toEqual([
      "a/out: a select cannot be told from an export: the view shows what may be listed",
      "a/out: a change of many rows is checked as an edit of each",
      "a: send: no SQL statement does that; use the library",
      "a: note: what may be opened but not listed is not in the view",
    ]);
    expect(
      rowSecurity(compile({ portier: 1, tables: { a: { key: "id", fields, rules: { seen: rules.seen } } } })).warnings,
    ).toEqual([]);
  });
});

describe("a document that a database cannot hold", () => {
  it("is refused where views would not find a place", () => {
    const fields = { id: "text", title: "text" } as const;
    const of = (...sources: readonly string[]) =>
      compile({
        portier: 1,
        tables: Object.fromEntries(sources.map((source, at) => [`t${at}`, { key: "id", source, fields }])),
      });
    expect(() => rowSecurity(of("a.things", "b.things"))).toThrow(
      /The views of "a.things" and "b.things" would have one name/,
    );
    expect(() => rowSecurity(of("things"), { schema: "public" })).toThrow(/in the schema of the tables, "public"/);
    expect(() => rowSecurity(of("portier.things"))).toThrow(/in the schema of the tables, "portier"/);
    expect(() => rowSecurity(of("_me"))).toThrow(/something of their own "_me"/);
    expect(() => rowSecurity(of("things"), { schema: "ü".repeat(29) })).toThrow(/keeps 63 bytes of a name/);
    expect(() => rowSecurity(of("things"), { reader: "r".repeat(64) })).toThrow(/keeps 63 bytes of a name/);
  });

  it("is refused", () => {
    const text = {
      portier: 1,
      people: { table: "staff" },
      tables: {
        days: { key: "day", fields: { day: "date", note: "text" } },
        staff: { key: "id", fields: { id: "text", day: { reference: "days", optional: true } } },
        notes: {
          key: "id",
          fields: { id: "text", note: "text" },
          rules: { same: { to: "signed-in", where: "note = me.day.note", permit: { view: "all" } } },
        },
      },
    } as const;
    expect(() => rowSecurity(compile(text))).toThrow(/cannot hold rules that ask for me\.day\.note/);
  });
});
