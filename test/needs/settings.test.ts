import { compile, type Row } from "portier";
import { createDatabase } from "portier/database";
import { parseDocument } from "portier/document";
import { explain, explanationText } from "portier/explain";
import { administration, databaseStore, storeMigration } from "portier/people";
import { maskedSelect, rowSecurity } from "portier/sql";
import { declaredGains } from "portier/tooling";
import { accessMatrix, diffAccess, personViewers } from "portier/verify";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { codesOf } from "../support/codes.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

/** I want an administrator to say what one person may do with one field, while the application runs. */
const rulesFile = `
portier: 1
people:
  table: staff
  roles: post
  assignments: true
  settings:
    table: field_settings
    person: member
    on: entity
    field: attribute
    level: level
    record: record_key
    from: starts_at
    until: ends_at
    settableBy: [registrar]
    adds:
      objects: { view: [shelf], edit: [label] }
roles:
  keeper: {}
  registrar: {}
tables:
  staff:
    key: id
    fields: { id: text, post: { choice: [keeper, registrar], optional: true } }
    rules: { all-are-known: { to: signed-in, permit: { list: all } } }
  field_settings:
    key: id
    fields:
      id: text
      member: { reference: staff }
      entity: text
      attribute: text
      level: { choice: [none, view, edit] }
      record_key: { type: text, optional: true }
      starts_at: { type: timestamp, optional: true }
      ends_at: { type: timestamp, optional: true }
      remark: { type: text, optional: true }
    rules:
      registrar-sets: { to: [registrar, keeper], permit: { view: all, create: all, edit: all, delete: yes, bulk: all, import: all } }
  objects:
    key: id
    fields:
      id: text
      title: text
      label: { type: text, optional: true }
      shelf: { type: text, sensitive: true, optional: true }
      value: { type: integer, optional: true }
      department: { type: text, optional: true }
    rules:
      keepers: { to: keeper, where: department = 'ships', permit: { view: [title, label, value], edit: [title, value], create: all } }
      registrar: { to: registrar, permit: { view: [all, shelf], edit: [all, shelf], create: [all, shelf] } }
  odd:
    key: id
    fields: { id: text, a: { type: text, optional: true }, "a/b": { type: text, optional: true } }
    rules: { all: { to: keeper, permit: { view: all, edit: all } } }
  loans:
    key: number
    fields: { number: integer, object: { reference: objects, optional: true }, fee: { type: decimal, optional: true } }
    rules: { all: { to: [keeper, registrar], permit: { view: all, edit: all } } }
`;

const portier = compile(parseDocument(rulesFile).document);
const now = "2027-01-31T12:00:00Z";
const request = { now };

const setting = (member: string, entity: string, attribute: string, level: string, more: Row = {}): Row => ({
  ...{ id: [member, entity, attribute, level, more["record_key"] ?? ""].join(" "), member, entity, attribute, level },
  ...{ record_key: null, starts_at: null, ends_at: null, remark: null, ...more },
});

const data: Record<string, Row[]> = {
  staff: [
    { id: "bram", post: "keeper" },
    { id: "ines", post: "registrar" },
    { id: "liv", post: null },
    { id: "noor", post: "keeper" },
    { id: "wren", post: "keeper" },
  ],
  field_settings: [
    // Bram: no values, but of one object; labels of all that he knows.
    setting("bram", "objects", "value", "none"),
    setting("bram", "objects", "value", "edit", { record_key: "o2" }),
    setting("bram", "objects", "label", "edit"),
    // Noor may see shelves, until January; titles are hers to see, one of them not even that.
    setting("noor", "objects", "shelf", "view", { ends_at: "2027-02-01T00:00:00Z" }),
    setting("noor", "objects", "title", "view"),
    setting("noor", "objects", "title", "none", { record_key: "o1" }),
    setting("noor", "loans", "fee", "none", { record_key: "7" }),
    // Over, not begun yet, and of what no rule lets him see.
    setting("wren", "objects", "value", "none", { ends_at: now }),
    setting("wren", "objects", "label", "none", { starts_at: "2027-02-01T00:00:00Z" }),
    setting("liv", "objects", "label", "edit"),
    // A field and a record that together read like another field and another record.
    setting("wren", "odd", "a/b", "none", { record_key: "o1" }),
    setting("wren", "odd", "a", "edit", { record_key: "none such" }),
    // Opens it to be seen, and no more: that is what the declaration says that it may.
    setting("wren", "objects", "shelf", "edit"),
  ],
  objects: [
    { id: "o1", title: "Sextant", label: "A sextant", shelf: "S1", value: 10, department: "ships" },
    { id: "o2", title: "Log", label: "A log", shelf: "S2", value: 20, department: "ships" },
    { id: "o3", title: "Loom", label: "A loom", shelf: "T1", value: 30, department: "textiles" },
  ],
  odd: [
    { id: "b/o1", a: "1", "a/b": "1" },
    { id: "o1", a: "2", "a/b": "2" },
  ],
  loans: [
    { number: 7, object: "o1", fee: "7.5" },
    { number: 8, object: "o2", fee: "8.5" },
  ],
  portier_assignments: [],
  portier_delegations: [],
};

/** What each sees of a field, and may edit of it, as the keys of records. */
const cases: readonly (readonly [who: string, field: string, seen: string, edited: string])[] = [
  ["bram", "objects.value", "o2", "o2"],
  ["bram", "objects.label", "o1 o2", "o1 o2"],
  ["bram", "objects.shelf", "", ""],
  ["noor", "objects.shelf", "o1 o2", ""],
  ["noor", "objects.title", "o2", ""],
  ["noor", "objects.value", "o1 o2", "o1 o2"],
  ["noor", "loans.fee", "8", "8"],
  ["wren", "objects.value", "o1 o2", "o1 o2"],
  ["wren", "objects.label", "o1 o2", ""],
  ["wren", "objects.shelf", "o1 o2", ""],
  ["wren", "odd.a", "b/o1 o1", "b/o1 o1"],
  ["wren", "odd.a/b", "b/o1", "b/o1"],
  ["liv", "objects.label", "", ""],
  ["ines", "objects.shelf", "o1 o2 o3", "o1 o2 o3"],
];

const keysOf = (table: string, rows: readonly Row[], field: string) =>
  rows
    .filter((row) => Object.hasOwn(row, field) && row[field] !== null)
    .map((row) => String(row[table === "loans" ? "number" : "id"]))
    .sort()
    .join(" ");

const session = (person: string, more: Record<string, Row[]> = {}, at = now) =>
  portier.session({ person, source: portier.source({ ...data, ...more }), request: { now: at } });

describe("settings per person", () => {
  it.each(cases)("%s: %s", (who, named, seen, edited) => {
    const [table = "", field = ""] = named.split(".");
    const own = session(who);
    const rows = data[table] ?? [];
    expect(keysOf(table, own.maskAll(table, rows, "view"), field)).toBe(seen);
    expect(
      keysOf(
        table,
        rows.filter((row) => own.may("edit", table, row, field)),
        field,
      ),
    ).toBe(edited);
  });

  it("count at their time", () => {
    const seen = (who: string, field: string, at: string) =>
      keysOf("objects", session(who, {}, at).maskAll("objects", data["objects"] ?? [], "view"), field);
    expect(seen("noor", "shelf", "2027-01-31T23:59:59Z")).toBe("o1 o2");
    expect(seen("noor", "shelf", "2027-02-01T00:00:00Z")).toBe("");
    expect(seen("wren", "value", "2027-01-31T11:59:59Z")).toBe("");
    expect(seen("wren", "label", "2027-02-01T00:00:00Z")).toBe("");
  });

  it("refuse a forged value, or keep what is stored", () => {
    const noor = session("noor");
    const [, log] = data["objects"] as [Row, Row];
    const strict = noor.checkEdit("objects", log, { title: "Mine", value: 21 });
    expect(strict).toMatchObject({ accepted: false, refusals: [{ field: "title", reason: "denied" }] });
    const lenient = noor.checkEdit("objects", log, { title: "Mine", value: 21 }, { mode: "lenient" });
    expect(lenient).toMatchObject({
      accepted: true,
      record: { title: "Log", value: 21 },
      dropped: [{ field: "title" }],
    });
    const made = noor.checkCreate("objects", { id: "o9", title: "Mine", department: "ships" });
    expect(made).toMatchObject({ accepted: false, refusals: [{ field: "title" }] });
    // What a setting adds to be edited makes no record.
    expect(session("liv").may("create", "objects", { id: "o9", title: "x", label: "x" })).toBe(false);
  });

  it("are what an explanation names", () => {
    const bram = session("bram");
    const [record] = data["objects"] as [Row];
    const text = explanationText(
      explain(bram, { action: "view", table: "objects", record, field: "value" }),
      "bram",
      "objects.value",
    );
    expect(text).toContain("objects/setting.value.none");
    expect(bram.decide("view", "objects", record, "value")).toMatchObject({ rule: "objects/setting.value.none" });
  });

  it.each([
    ["a table", { entity: "object" }, "objects"],
    ["a field", { attribute: "labl" }, "label"],
    ["a level", { level: "all" }, "none, view, edit"],
    ["the key", { attribute: "id" }, "key"],
    ["a record", { entity: "loans", attribute: "fee", record_key: "x7" }, "x7"],
  ])("keep the session from opening where %s is not there", (_what, wrong, told) => {
    const rows = [setting("wren", "objects", "label", "none", wrong)];
    expect(() => session("wren", { field_settings: rows })).toThrow(told);
    expect(() => session("bram", { field_settings: rows })).not.toThrow();
    const nothing = [setting("wren", "objects", "label", "none", { attribute: null })];
    expect(session("wren", { field_settings: nothing }).may("view", "objects", data["objects"]?.[0], "label")).toBe(
      true,
    );
  });

  it("count in the matrix and in what two states differ by, where people are looked at with their data", () => {
    const viewers = (more: Record<string, Row[]>) => {
      const source = portier.source({ ...data, ...more });
      return personViewers(portier, data["staff"] ?? [], { source, request });
    };
    const records = (table: string) => data[table] ?? [];
    const cell = accessMatrix(portier, viewers({}), { fields: true, records: new Map(Object.entries(data)) }).find(
      ({ viewer, table, field }) => viewer.id === "bram" && table === "objects" && field === "value",
    );
    expect(cell?.cells.get("view")).toMatchObject({ reach: "some", count: 1 });
    const lost = diffAccess(viewers({ field_settings: [] }), viewers({}), records);
    const ofBram = lost.find(({ persons }) => persons.includes("bram"));
    expect(ofBram?.losses).toContainEqual(expect.objectContaining({ table: "objects", fields: ["value"], records: 1 }));
  });

  it.each([
    [
      "settableBy: [registrar]",
      "settableBy: [registrar, keeper]",
      "keeper may set what one person may do with a field",
    ],
    ["view: [shelf]", "view: [shelf, value]", "a setting may open objects value to be viewed"],
    ["edit: [label]", "edit: [label, title]", "a setting may open objects title to be edited"],
    ["    until: ends_at\n", "", "settings per person are read otherwise: from field_settings"],
    [
      / {2}settings:[\s\S]*edit: \[label\] }\n/,
      "",
      "settings per person count no more: what they take away is given back",
    ],
  ])("are compared with those of another document: %s", (from, to, sentence) => {
    const other = compile(parseDocument(rulesFile.replace(from, to)).document);
    expect(declaredGains(portier.schema, other.schema)).toContain(sentence);
    expect(declaredGains(portier.schema, portier.schema)).toEqual([]);
  });

  it("say what is wrong in the declaration", () => {
    const wrong = (from: string, to: string) => codesOf(rulesFile.replace(from, to));
    expect(wrong("level: level", "level: id_")).toEqual(["unknown-field"]);
    expect(wrong("    field: attribute\n", "")).toEqual(["missing-key"]);
    expect(wrong("settableBy: [registrar]", "settableBy: [registrars]")).toEqual(["unknown-who"]);
    expect(wrong("[none, view, edit]", "[none, view, all]")).toEqual(["setting-choice"]);
    expect(wrong("edit: [label]", "edit: [id]")).toEqual(["setting-field"]);
    expect(wrong("person: member", "person: remark")).toEqual(["wrong-field-type"]);
    expect(wrong("objects: { view: [shelf]", "objets: { view: [shelf]")).toEqual(["unknown-table"]);
  });
});

describe.each(Object.entries(engines))("settings in %s", (name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    for (const statement of storeMigration(portier, engine.dialect).filter(
      (one) => !/portier_(assign|deleg)/.test(one),
    ))
      await engine.run(statement);
    await createTables(engine, portier.schema);
  });
  beforeEach(async () => {
    await storeAll(engine, portier.schema, data);
  });
  afterAll(() => engine?.close());

  it.each(cases)("%s: %s", async (who, named, seen) => {
    const [table = "", field = ""] = named.split(".");
    const { text, params } = maskedSelect(session(who), table, engine.dialect);
    expect(keysOf(table, await engine.run(text, params), field)).toBe(seen);
    const listed = await createDatabase(portier, engine.connection).as({ person: who, request }).list(table);
    expect(keysOf(table, listed.records, field)).toBe(seen);
  });

  it("are set by whom the declaration names, previewed, and recorded", async () => {
    const people = administration(portier, databaseStore(portier, engine.connection));
    const database = createDatabase(portier, engine.connection);
    const seen = async () =>
      keysOf("objects", (await database.as({ person: "wren", request }).list("objects")).records, "value");
    const change = { kind: "set", person: "wren", table: "objects", field: "value", level: "none" } as const;
    const registrar = people.as({ person: "ines", request });
    const preview = await registrar.preview(change);
    expect(preview).toMatchObject({ outcome: { accepted: true }, person: "wren", gains: [] });
    expect(preview.losses).toMatchObject([
      { actions: ["list", "view", "edit"], fields: ["value"], records: 2 },
      { actions: ["create"], fields: ["value"] },
    ]);
    expect(await seen()).toBe("o1 o2");
    // A keeper may write into the table, by its rules: but not this.
    expect(await people.as({ person: "bram", request }).make(change)).toMatchObject({
      problems: [{ code: "may-not-set" }],
    });
    expect(await registrar.make({ ...change, reason: "an audit" })).toEqual({ accepted: true, warnings: [] });
    expect(await seen()).toBe("");
    expect(await registrar.set({ ...change, level: "view" })).toMatchObject({ accepted: true });
    expect(await seen()).toBe("o1 o2");
    const [entry] = await databaseStore(portier, engine.connection).auditLog({ person: "wren", limit: 1 });
    expect(entry).toMatchObject({
      kind: "set",
      by: "ines",
      before: [{ level: "none" }],
      after: [{ level: "view" }],
    });
    expect(await registrar.set({ ...change, record: "o1" })).toMatchObject({ accepted: true });
    expect(await seen()).toBe("o2");
    expect(await registrar.set({ ...change, record: "o77" })).toMatchObject({ problems: [{ code: "no-such-record" }] });
    expect(await registrar.set({ ...change, level: null })).toMatchObject({ accepted: true });
    expect(await registrar.set({ ...change, level: null })).toMatchObject({ problems: [{ code: "not-set" }] });
    expect(await registrar.set({ ...change, field: "valeu" })).toMatchObject({
      problems: [{ code: "invalid-setting" }],
    });
  });

  it("widen nobody's own rights unconfirmed, on no path", async () => {
    const people = administration(portier, databaseStore(portier, engine.connection));
    await createDatabase(portier, engine.connection);
    const own = { person: "ines", table: "objects", field: "value" } as const;
    const registrar = people.as({ person: "ines", request });
    expect(await registrar.set({ ...own, level: "view" })).toMatchObject({ accepted: true });
    const widened = { ...own, level: null };
    expect(await registrar.set(widened)).toMatchObject({
      reason: "unconfirmed",
      warnings: [{ code: "assigns-oneself" }],
    });
    const acting = createDatabase(portier, engine.connection).as({ person: "ines", request });
    const [row] = (await acting.list("field_settings")).records.filter(({ member }) => member === "ines");
    const key = row?.["id"] as string;
    for (const forged of [{ level: "edit" }, { member: "wren" }, { record_key: "o1" }, { attribute: "title" }]) {
      const outcome = await acting.edit("field_settings", key, forged);
      expect(outcome, JSON.stringify(forged)).toMatchObject({ accepted: false });
    }
    expect(await acting.bulkEdit("field_settings", [key], { level: "edit" })).toMatchObject({ accepted: false });
    const lenient = await acting.edit("field_settings", key, { level: "edit", remark: "mine" }, { mode: "lenient" });
    expect(lenient).toMatchObject({ accepted: true, dropped: [{ field: "level", reason: "role-change" }] });
    const opening = setting("ines", "objects", "label", "edit", { id: "w" });
    expect(await acting.create("field_settings", opening)).toMatchObject({ accepted: false });
    expect(await acting.import("field_settings", [opening])).toMatchObject({ accepted: false });
    expect(await acting.edit("field_settings", key, { level: "none" })).toMatchObject({ accepted: true });
    expect(await acting.edit("field_settings", key, { remark: "why" })).toMatchObject({ accepted: true });
    expect(await acting.delete("field_settings", key)).toMatchObject({ accepted: false });
    // Whoever may write into the table, but may not set, changes nothing there.
    const keeper = createDatabase(portier, engine.connection).as({ person: "wren", request });
    const foreign = setting("bram", "objects", "label", "none");
    expect(await keeper.create("field_settings", { ...foreign, id: "x" })).toMatchObject({ accepted: false });
    expect(await keeper.import("field_settings", [{ ...foreign, id: "x" }])).toMatchObject({ accepted: false });
    expect(await keeper.bulkEdit("field_settings", [key], { level: "view" })).toMatchObject({ accepted: false });
    expect(await keeper.edit("field_settings", key, { remark: "mine" })).toMatchObject({ accepted: true });
    expect(await registrar.set(widened, { confirmed: ["assigns-oneself"] })).toMatchObject({ accepted: true });
  });

  const isPostgres = name === "PGlite" || name === "PostgreSQL";
  if (isPostgres)
    it("hold behind row security", async () => {
      const { script } = engine as Required<Engine>;
      const { schema } = engine;
      const { migration, removal } = rowSecurity(portier, {
        schema: "seen",
        ...(schema === undefined ? {} : { tables: schema }),
      });
      await script(migration);
      try {
        const asked = async (who: string, statement: string) => {
          await script("begin");
          try {
            await script(`select seen.set_person('${who}', '{"now": "${now}"}')`);
            return await engine.run(statement);
          } finally {
            await script("rollback");
          }
        };
        for (const [who, named, seen, edited] of cases) {
          const [table = "", field = ""] = named.split(".");
          const rows = await asked(who, `select * from seen.${table}`);
          expect(keysOf(table, rows, field), `${who} ${named}`).toBe(seen);
          // Records that nobody may list are not there to be changed.
          for (const key of seen.split(" ").filter((one) => one !== "")) {
            const where = `where ${table === "loans" ? "number" : "id"} = '${key}'`;
            const value = table === "loans" ? "1" : field === "value" ? "3" : "'x'";
            const isDone = await asked(who, `update seen.${table} set "${field}" = ${value} ${where}`).then(
              () => true,
              () => false,
            );
            expect(isDone, `${who} edits ${named} of ${key}`).toBe(edited.split(" ").includes(key));
          }
        }
        for (const change of [
          "insert into seen.field_settings (id, member, entity, attribute, level) values ('x', 'wren', 'objects', 'label', 'none')",
          "update seen.field_settings set level = 'none' where id like 'noor%'",
          "delete from seen.field_settings",
        ]) {
          await expect(asked("ines", change), change).rejects.toThrow();
        }
        await asked("ines", "update seen.field_settings set remark = 'why'");
      } finally {
        await script(removal);
      }
    });
});
