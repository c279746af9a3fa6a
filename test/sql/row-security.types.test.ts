import { compile } from "portier";
import type { Connection } from "portier/database";
import { rowSecurity } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Engine, engines } from "../support/engines.js";

/** Tables as databases have them: keys that number themselves, uuids, enums, columns by other names, a json of old. */
const tables = `
  create type post as enum ('clerk', 'chief', 'auditor');
  create type state as enum ('open', 'shut');
  create table "Depts" (dept_id smallint primary key, label varchar(40) not null);
  create table people (id uuid primary key, "Name" text, posts post[] not null default '{}', dept smallint references "Depts", active boolean not null);
  create table grants (person uuid references people, job post, primary key (person, job));
  create table tasks (
    id bigint generated always as identity primary key, title varchar(40) not null, state state not null,
    dept smallint references "Depts", owner uuid references people, readers uuid[] not null default '{}',
    cost numeric(10, 2), extra json, made_at timestamptz not null default now(), length integer generated always as (length(title)) stored
  );`;

const [anna, bert, cleo] = ["1", "2", "3"].map((n) => `${n.repeat(8)}-0000-4000-8000-000000000000`) as [
  string,
  string,
  string,
];

const portier = compile({
  portier: 1,
  people: {
    table: "people",
    name: "name",
    active: "active",
    roles: ["posts", { table: "grants", person: "person", role: "job" }],
  },
  roles: { clerk: {}, chief: { include: ["clerk"] }, auditor: {} },
  groups: { first: { members: [{ where: "dept = 1" }], roles: ["auditor"] } },
  request: { desk: "integer" },
  tables: {
    depts: {
      source: "Depts",
      key: "id",
      fields: { id: { type: "integer", column: "dept_id" }, label: "text" },
      rules: { known: { to: "signed-in", where: "id <> 3", permit: { view: "all" } } },
    },
    people: {
      key: "id",
      owner: "id",
      fields: {
        id: "text",
        name: { type: "text", column: "Name", optional: true },
        posts: { list: "text" },
        dept: { reference: "depts", optional: true },
        active: "boolean",
      },
      rules: { known: { to: "clerk", permit: { view: ["name"] } } },
    },
    grants: {
      key: ["person", "job"],
      fields: { person: { reference: "people" }, job: { choice: ["clerk", "chief", "auditor"] } },
    },
    tasks: {
      key: "id",
      owner: "owner",
      fields: {
        id: { type: "integer", generated: true },
        title: "text",
        state: { choice: ["open", "shut"], default: "open" },
        dept: { reference: "depts", optional: true },
        owner: { reference: "people", optional: true },
        readers: { list: { reference: "people" }, generated: true },
        cost: { type: "decimal", sensitive: true, optional: true },
        extra: { type: "json", optional: true },
        made_at: { type: "timestamp", generated: true },
        length: { type: "integer", computed: true, optional: true },
      },
      rules: {
        own: {
          to: "owner",
          permit: { view: ["all", "cost"], edit: ["title", "state", "extra", "readers", "dept"], delete: "yes" },
        },
        make: {
          to: "clerk",
          where: "dept = me.dept",
          permit: { create: ["title", "state", "dept", "extra", "readers", "cost"] },
        },
        read: { to: "chief", where: "dept = me.dept", permit: { view: ["title", "state", "dept", "owner"] } },
        lent: { to: "signed-in", where: "me in readers and state = 'open'", permit: { list: ["title", "made_at"] } },
        desk: { to: "anyone", where: "dept = request.desk and state = 'shut'", permit: { list: ["title"] } },
        audit: { to: "auditor", permit: { list: ["cost"] } },
        shut: { to: "chief", where: "state = 'shut'", reserve: { edit: ["title"] } },
        costly: { where: "cost >= 100", deny: { create: ["cost"] } },
      },
    },
  },
});

const onPostgres = Object.entries(engines)
  .filter(([name]) => name === "PGlite" || name === "PostgreSQL")
  .flatMap(([name, open]) => [[name, open, false] as const, [`${name}, through the overlay`, open, true] as const]);

describe.each(onPostgres)("row security over columns of many types on %s", (_name, open, isOverlay) => {
  let engine: Engine;
  const seen = `seen_${process.pid}_${Math.floor(Math.random() * 1e6)}`;
  const user = `${seen}_user`;
  const script = (text: string) => (engine.script as (text: string) => Promise<unknown>)(text);

  beforeAll(async () => {
    engine = await open();
    await script(`${tables}
      insert into "Depts" values (1, 'one'), (2, 'two'), (3, 'three');
      insert into people values ('${anna}', 'Anna', '{chief}', 2, true), ('${bert}', 'Bert', '{}', 1, true), ('${cleo}', 'Cleo', '{}', 2, true);
      insert into grants values ('${cleo}', 'clerk');
      insert into tasks (title, state, dept, owner, readers, cost) values
        ('of anna', 'open', 2, '${anna}', '{}', 1), ('of bert', 'open', 1, '${bert}', '{${cleo}}', 2), ('of none', 'shut', 2, null, '{}', 3);
      create role ${user}`);
    await script(
      rowSecurity(portier, { schema: seen, tables: engine.schema ?? "public", applications: [user] }).migration,
    );
  });
  afterAll(async () => {
    await script(
      `drop schema ${seen}, ${seen}_internal, ${seen}_app cascade; drop owned by ${user}, ${seen}_reader, ${seen}_reader_app; drop role ${user}, ${seen}_reader, ${seen}_reader_app`,
    );
    await engine?.close();
  });

  const undo = new Error("undo");
  /** What statements give as a person; nothing of it stays. */
  async function asked(person: string | null, request: object, ...statements: readonly string[]): Promise<unknown> {
    let rows: unknown;
    const work = async (link: Connection) => {
      await link.query(`set local role ${user}`, []);
      await link.query(`set local search_path = ${isOverlay ? `${seen}_app, ` : ""}${seen}`, []);
      await link.query("select set_person($1, $2)", [person, JSON.stringify(request)]);
      for (const statement of statements) rows = await link.query(statement, []);
      throw undo;
    };
    try {
      await engine.connection.transaction(work);
    } catch (error) {
      if (error !== undo) return { code: (error as { code: string }).code, message: (error as Error).message };
    }
    return rows;
  }

  it.each<[string, string | null, string, unknown]>([
    [
      "a chief",
      anna,
      "select title, cost from tasks order by title",
      [
        { title: "of anna", cost: "1.00" },
        { title: "of none", cost: null },
      ],
    ],
    [
      "an auditor through a group, and an owner",
      bert,
      "select title, cost from tasks order by cost",
      [
        { title: null, cost: "1.00" },
        { title: "of bert", cost: "2.00" },
        { title: null, cost: "3.00" },
      ],
    ],
    [
      "a reader by a list",
      cleo,
      "select title, cost, state from tasks",
      [{ title: "of bert", cost: null, state: null }],
    ],
    ["a visitor", null, "select * from tasks", []],
    [
      "what is seen of people",
      cleo,
      `select "Name", posts from people order by 1`,
      [
        { Name: "Anna", posts: null },
        { Name: "Bert", posts: null },
        { Name: "Cleo", posts: null },
      ],
    ],
    [
      "tables by other names",
      cleo,
      `select * from "Depts" order by dept_id`,
      [
        { dept_id: 1, label: "one" },
        { dept_id: 2, label: "two" },
      ],
    ],
  ])("shows %s what they may list", async (_what, person, statement, expected) => {
    expect(await asked(person, {}, statement)).toEqual(expected);
  });

  it("reads values of the request", async () => {
    expect(await asked(null, { desk: 2 }, "select title, dept from tasks")).toEqual([{ title: "of none", dept: null }]);
    expect(await asked(null, { desk: null }, "select title from tasks")).toEqual([]);
    expect(await asked(null, { desk: "two" }, "select title from tasks")).toMatchObject({ code: "22P02" });
  });

  it.each<[string, string, string, unknown]>([
    [
      "makes what numbers itself, with its owner and defaults",
      cleo,
      `insert into tasks (title, dept) values ('new', 2) returning title, state, owner, readers, length, id > 3 as numbered, made_at is not null as timed`,
      [{ title: "new", state: "open", owner: cleo, readers: [], length: 3, numbered: true, timed: true }],
    ],
    [
      "makes several",
      cleo,
      `insert into tasks (title, dept, extra) values ('a', 2, '{"b": 1}'), ('b', 2, null) returning title, extra`,
      [
        { title: "a", extra: { b: 1 } },
        { title: "b", extra: null },
      ],
    ],
    ["makes none where they may not", cleo, "insert into tasks (title, dept) values ('new', 1)", { code: "42501" }],
    [
      "judges what would be stored, which a column rounds",
      cleo,
      "insert into tasks (title, dept, cost) values ('new', 2, 99.996)",
      { code: "42501", message: "not permitted: create tasks (cost)" },
    ],
    [
      "makes none for somebody else",
      cleo,
      `insert into tasks (title, dept, owner) values ('new', 2, '${anna}')`,
      { code: "42501", message: "not permitted: create tasks (owner)" },
    ],
    [
      "gives no number",
      cleo,
      "insert into tasks (id, title, dept) overriding system value values (77, 'new', 2)",
      { code: "42501", message: "not permitted: create tasks (id)" },
    ],
    [
      "lends to whom they know",
      cleo,
      `insert into tasks (title, dept, readers) values ('new', 2, '{${anna}}') returning readers`,
      [{ readers: [anna] }],
    ],
    [
      "changes json, enums and lists",
      anna,
      `update tasks set extra = '{"a": [1]}', state = 'shut', readers = '{${cleo}}' where title = 'of anna' returning extra, state, readers`,
      [{ extra: { a: [1] }, state: "shut", readers: [cleo] }],
    ],
    [
      "names no department that is not known",
      anna,
      "update tasks set dept = 3 where title = 'of anna'",
      { code: "23503", message: "no such record (dept)" },
    ],
    [
      "does not set what is worked out",
      anna,
      "update tasks set length = 9 where title = 'of anna'",
      { code: "42501", message: "not permitted: edit tasks (length)" },
    ],
    [
      "says what is too long without the value",
      anna,
      "update tasks set title = repeat('x', 41) where title = 'of anna'",
      { code: "22001" },
    ],
    ["takes away", anna, "delete from tasks where title = 'of anna' returning title", [{ title: "of anna" }]],
  ])("%s", async (_what, person, statement, expected) => {
    const found = await asked(person, {}, statement);
    if (Array.isArray(expected)) expect(found).toEqual(expected);
    else expect(found).toMatchObject(expected as object);
  });
});
