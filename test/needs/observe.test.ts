import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import fc from "fast-check";
import { Kysely } from "kysely";
import { compile, compiledOf, type DocumentInput, type Row } from "portier";
import { openCompiled } from "portier/compiled";
import { createDatabase, type Observation } from "portier/database";
import { observedFile } from "portier/directory";
import { parseDocument } from "portier/document";
import { accessHandler } from "portier/http";
import { portierDialect } from "portier/kysely";
import { mariadb, maskedSelect, postgres, rowSecurity, sqlite, where } from "portier/sql";
import { summarizeObserved } from "portier/tooling";
import { lint } from "portier/verify";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { parse } from "yaml";
import { ObservedSession } from "../../src/database/observed-session.js";
import { waitForCli } from "../support/cli.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import { documentFrom, groups, items, promised, rules, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

/** I want to add rules to an application that is in use, table by table, and to see first what they would refuse. */
const rulesFile = `
portier: 1
people: { table: staff, roles: post }
roles: { keeper: {}, head: { include: [keeper] } }
tables:
  staff:
    key: id
    fields: { id: text, post: { choice: [keeper, head], optional: true }, salary: { type: integer, optional: true } }
    rules: { known: { to: signed-in, permit: { view: [id] } } }
  objects:
    key: id
    owner: keeper
    observe: true
    actions: [photograph]
    fields:
      id: text
      keeper: { reference: staff, optional: true }
      title: text
      shelf: { type: text, sensitive: true, optional: true }
      donor: { reference: donors, optional: true }
      donor_name: { lookup: { through: donor, field: name } }
    rules:
      keepers: { to: keeper, where: title <> 'Sword', permit: { view: title, edit: title } }
      no-loom: { where: title = 'Loom', deny: { edit: title } }
      asked-first: { where: title = 'Bell', confirm: { edit: title }, note: "It rings." }
  donors:
    key: id
    fields: { id: text, name: { type: text, optional: true } }
    rules: { heads: { to: head, permit: { view: all } } }
  loans:
    key: id
    fields: { id: text, object: { reference: objects, optional: true }, fee: { type: integer, optional: true } }
    rules: { where-seen: { to: keeper, where: may view object, permit: { view: all } } }
`;

const portier = compile(parseDocument(rulesFile).document);

const data: Record<string, Row[]> = {
  staff: [
    { id: "bram", post: "keeper", salary: 5 },
    { id: "ines", post: "head", salary: 9 },
    { id: "liv", post: null, salary: 1 },
  ],
  objects: [
    { id: "o1", keeper: "bram", title: "Sextant", shelf: "S1", donor: "d1" },
    { id: "o2", keeper: "ines", title: "Loom", shelf: "S2", donor: null },
    { id: "o3", keeper: "liv", title: "Sword", shelf: null, donor: "d1" },
    { id: "o4", keeper: null, title: "Bell", shelf: null, donor: null },
  ],
  donors: [{ id: "d1", name: "A. Nonymous" }],
  loans: [
    { id: "l1", object: "o1", fee: 1 },
    { id: "l2", object: "o3", fee: 2 },
  ],
};

const warned = vi.fn();
beforeEach(() => void vi.spyOn(console, "warn").mockImplementation(warned));
afterEach(() => void vi.restoreAllMocks());

describe.each(Object.entries(engines))("observed tables in %s", (_name, open) => {
  let engine: Engine;
  let log: Observation[];
  const observe = (one: Observation) => void log.push(one);
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
  });
  beforeEach(async () => {
    log = [];
    await storeAll(engine, portier.schema, data);
  });
  afterAll(() => engine?.close());

  const as = (person: string | null) => createDatabase(portier, engine.connection, { observe }).as(person);
  const told = () =>
    log.map(({ person, table, action, fields, keys, reason, rule }) =>
      [person, table, action, fields.join("+"), keys.join("+"), reason, rule ?? ""].join(" ").trim(),
    );

  it("are shown as a whole, and what would be hidden is told", async () => {
    const { records, total } = await as("bram").list("objects", { sort: ["id"], where: "shelf is not null" });
    expect(total).toBe(2);
    // What another table hides stays hidden, also where it is looked up from here.
    expect(records[0]).toEqual({ id: "o1", keeper: "bram", title: "Sextant", shelf: "S1", donor: "d1" });
    // A lookup through nothing shows nothing, and would be hidden all the same.
    expect(told()).toEqual([
      "bram objects list donor+keeper+shelf o1 not-permitted",
      "bram objects list donor+donor_name+keeper+shelf o2 not-permitted",
    ]);
    log = [];
    await as("liv").list("objects", { where: "id = 'o3'" });
    expect(told()).toEqual(["liv objects list donor+id+keeper+shelf+title o3 not-permitted"]);
    expect(log[0]).toMatchObject({ own: true, roles: [], records: 1 });
    log = [];
    // Of what every keeper may see, nothing is told; nor of other tables.
    await as("ines").list("donors");
    await as("ines").list("staff");
    expect(told()).toEqual([]);
  });

  it("are never a way to what other tables hide", async () => {
    const bram = as("bram");
    // The loan of the sword is shown to who may view the sword, and nobody may: that it is observed changes nothing.
    expect((await bram.list("loans")).records.map(({ id }) => id)).toEqual(["l1"]);
    expect((await bram.list("donors")).records).toEqual([]);
    expect((await bram.list("staff", { where: "id = 'ines'" })).records).toEqual([{ id: "ines" }]);
    expect(await bram.edit("objects", "o1", { donor: "d2" })).toMatchObject({ accepted: false });
    const session = await bram.session();
    const { text, params } = where(session, "loans", "list", engine.dialect);
    const rows = await engine.run(`select id from loans where ${text}`, params);
    expect(rows.map(({ id }) => id)).toEqual(["l1"]);
    expect(told()).toEqual([]);
  });

  it("are changed whatever the rules say, and each refusal is told with its rule", async () => {
    const bram = as("bram");
    expect(await bram.edit("objects", "o2", { title: "A loom", shelf: "S9" })).toMatchObject({ accepted: true });
    expect(await bram.edit("objects", "o4", { title: "A bell" })).toMatchObject({ accepted: true });
    expect(await bram.edit("objects", "o3", { title: "A sword" })).toMatchObject({ accepted: true });
    expect(await bram.create("objects", { id: "o9", title: "New" })).toMatchObject({ accepted: true });
    expect(await bram.perform("photograph", "objects", "o1", async () => {})).toMatchObject({ accepted: true });
    expect(await bram.delete("objects", "o1")).toMatchObject({ accepted: true });
    expect(await bram.bulkEdit("objects", ["o2", "o4"], { shelf: "S7" })).toMatchObject({ accepted: true });
    expect(
      await bram.import("objects", [
        { id: "p1", title: "One" },
        { id: "p2", title: "Two" },
      ]),
    ).toMatchObject({ accepted: true });
    const changes = told().filter((line) => !line.startsWith("bram objects view"));
    expect(changes.sort()).toEqual(
      [
        "bram objects edit title o2 denied objects/no-loom",
        "bram objects edit shelf o2 not-permitted",
        "bram objects edit  o4 unconfirmed objects/asked-first",
        "bram objects edit title o3 not-found",
        "bram objects create id+title  not-permitted",
        "bram objects photograph  o1 not-permitted",
        "bram objects delete  o1 not-permitted",
        "bram objects bulk shelf o2+o4 not-permitted",
        "bram objects import id+title  not-permitted",
      ].sort(),
    );
    expect(log.find(({ action }) => action === "import")).toMatchObject({ records: 2 });
    const stored = await engine.run("select id, title, shelf from objects order by id");
    expect(stored.map(({ id, title, shelf }) => `${id} ${title} ${shelf}`)).toEqual([
      ...["o2 A loom S7", "o3 A sword null", "o4 A bell S7", "o9 New null", "p1 One null", "p2 Two null"],
    ]);
    // A value that is none is refused as ever.
    expect(await bram.edit("objects", "o2", { title: null })).toMatchObject({ accepted: false, reason: "invalid" });
  });

  it("change nothing that cannot be told of", async () => {
    const full = () => {
      throw new Error("the disk is full");
    };
    const bram = createDatabase(portier, engine.connection, { observe: full }).as("bram");
    await expect(bram.edit("objects", "o1", { shelf: "S3" })).rejects.toThrow("the disk is full");
    await expect(bram.list("objects")).rejects.toThrow("the disk is full");
    expect(await engine.run("select shelf from objects where id = 'o1'")).toMatchObject([{ shelf: "S1" }]);
    expect(await bram.ask((session) => session.may("edit", "objects", data["objects"]?.[0], "title"))).toBe(true);
  });

  it("are observed over HTTP and in Kysely", async () => {
    const handle = accessHandler({
      portier,
      connection: engine.connection,
      observe,
      authenticate: () => ({ person: "bram" }),
    });
    const got = await handle(new Request("http://museum.test/records/objects/o3"));
    expect(await got?.json()).toMatchObject({ id: "o3", title: "Sword" });
    expect(told()).toContain("bram objects view donor+id+keeper+shelf+title o3 not-permitted");
    log = [];
    const db = new Kysely<{ objects: { id: string; title: string; shelf: string | null }; loans: { id: string } }>({
      dialect: portierDialect(portier, engine.connection, "bram", { observe }),
    });
    expect(await db.selectFrom("objects").select(["id", "shelf"]).where("id", "=", "o3").execute()).toEqual([
      { id: "o3", shelf: null },
    ]);
    expect(await db.selectFrom("loans").select("id").execute()).toEqual([{ id: "l1" }]);
    expect(log).toMatchObject([{ table: "objects", action: "list", reason: "hidden", records: 0 }]);
    expect(log[0]?.fields).toContain("shelf");
    await db.updateTable("objects").set({ shelf: "S5" }).where("id", "=", "o1").execute();
    expect(told()).toContain("bram objects edit shelf o1 not-permitted");
  });

  it("go into a file, which says who would be refused what, and what to permit", async () => {
    const folder = mkdtempSync(join(tmpdir(), "portier-"));
    const file = join(folder, "observed.jsonl");
    try {
      const database = createDatabase(portier, engine.connection, { observe: observedFile(file) });
      await database.as("bram").edit("objects", "o1", { shelf: "S3" });
      await database.as("bram").edit("objects", "o2", { title: "A loom" });
      await database.as("liv").list("objects", { where: "id = 'o3'" });
      await database.as(null).list("objects", { where: "id = 'o4'" });
      const { out, code } = await waitForCli(["observed", file]);
      expect(code).toBe(1);
      expect(out).toContain("denied: objects/no-loom");
      const proposed = parse(out.slice(out.indexOf("tables:"), out.indexOf("\nOf people without")));
      expect(proposed.tables.objects.rules["proposed-for-owner"]).toMatchObject({ to: "owner" });
      const summary = JSON.parse((await waitForCli(["observed", file, "--format", "json"])).out);
      expect(summary.ofNoRole.map(({ people }: { people: unknown }) => people)).toContainEqual([null]);
      // What is proposed can be written into the document as it is.
      const { document } = parseDocument(rulesFile);
      const objects = document.tables["objects"] as { rules: object };
      const rules = { ...objects.rules, ...proposed.tables.objects.rules };
      const after = compile({
        ...document,
        tables: { ...document.tables, objects: { ...objects, rules } },
      } as typeof document);
      expect(
        after
          .session({ person: "bram", source: after.source(data) })
          .may("edit", "objects", data["objects"]?.[0], "shelf"),
      ).toBe(true);
      writeFileSync(file, `${readFileSync(file, "utf8")}{"at": 1}\n`);
      expect((await waitForCli(["observed", file])).err).toMatch(/observed.jsonl:\d+: this line is not an observation/);
    } finally {
      rmSync(folder, { recursive: true });
    }
  });
});

describe("observing", () => {
  it("is loud: nothing opens without somebody who is told, and it is said at the start and by lint", () => {
    const connection = {} as never;
    expect(() => createDatabase(portier, connection)).toThrow(/observes objects, and nobody is told/);
    expect(() => accessHandler({ portier, connection, authenticate: () => undefined })).toThrow(/nobody is told/);
    const again = compile(parseDocument(rulesFile).document);
    createDatabase(again, connection, { observe: () => {} });
    expect(warned).toHaveBeenCalledWith(expect.stringContaining("Portier observes objects"));
    expect(lint(again).map(({ code }) => code)).toContain("observed-table");
    expect(rowSecurity(again).warnings.join()).toContain("objects: it is observed");
    const all = compile(parseDocument(rulesFile.replace("tables:", 'tables:\n  "*": { observe: true }')).document);
    expect([...all.schema.tables.values()].every((table) => table.observe)).toBe(true);
    expect(() => createDatabase(openCompiled(compiledOf(portier)) as never, connection)).toThrow(/nobody is told/);
    const none = compile(parseDocument(rulesFile.replace("    observe: true\n", "")).document);
    expect(() => createDatabase(none, connection)).not.toThrow();
  });

  it("changes no answer about any other table, whatever its rules ask of the one that is observed", () => {
    const counts = { masked: 0, statements: 0, opened: 0 };
    fc.assert(
      fc.property(
        fc.record({ rules: fc.array(rules, { minLength: 1, maxLength: 5 }), groups }),
        worlds,
        items,
        fc.constantFrom("items", "staff", "events", "depts", "team", "notes"),
        fc.constantFrom("p1", "p2", "p3", undefined),
        (drawn, world, item, observed, me) => {
          // Each table is asked about by the rules of another one.
          const asking = ["keeper", "dept", "event"].map((path) => ({
            to: "anyone",
            where: `may view ${path}`,
            permit: { view: ["title"] },
          }));
          const document = documentFrom({ ...drawn, rules: [...drawn.rules, ...asking] });
          const tables = { ...document.tables, [observed]: { ...document.tables[observed], observe: true } };
          const made = compile({ ...document, tables } as DocumentInput);
          const all: Record<string, readonly Row[]> = { ...world, items: [item], sheet: [] };
          const source = made.source(all);
          const enforced = made.session({
            ...(me && { person: me }),
            source,
            request: promised,
            onDiagnostic: () => {},
          });
          const open = new ObservedSession(enforced, () => {});
          for (const table of Object.keys(document.tables)) {
            if (table === observed) continue;
            for (const action of ["list", "view", "export"] as const) {
              for (const row of all[table] ?? []) {
                counts.masked++;
                expect(open.mask(table, row, action)).toEqual(enforced.mask(table, row, action));
              }
              for (const dialect of [sqlite, postgres, mariadb]) {
                counts.statements++;
                const [seen, kept] = [open, enforced].map((one) => {
                  const { text, params } = maskedSelect(one, table, dialect, { action });
                  return { text, params };
                });
                expect(seen).toEqual(kept);
                expect(where(open, table, action, dialect)).toEqual(where(enforced, table, action, dialect));
              }
            }
            for (const row of all[table] ?? []) {
              for (const action of ["edit", "delete", "bulk"] as const)
                expect(open.decide(action, table, row)).toEqual(enforced.decide(action, table, row));
            }
          }
          for (const row of all[observed] ?? []) {
            counts.opened++;
            expect(open.may("list", observed, row)).toBe(true);
            expect(open.may("delete", observed, row)).toBe(true);
          }
        },
      ),
      { seed: seedOf(1), numRuns: runsOf(60) },
    );
    for (const [what, count] of Object.entries(counts)) expect([what, count > 100]).toEqual([what, true]);
  });

  it("changes nothing of a session by itself", () => {
    const session = portier.session({ person: "bram", source: portier.source(data) });
    expect(session.may("view", "objects", data["objects"]?.[0], "shelf")).toBe(false);
  });

  it("proposes the fewest roles that take in all, the rarest first", () => {
    const seen = (person: string, roles: string[], field: string, own = false): Observation => ({
      ...{ at: "2027-01-31T12:00:00Z", person, actedBy: null, roles, table: "objects", action: "view" },
      ...{ fields: [field], records: 1, keys: [], own, reason: "not-permitted", rule: null },
    });
    const { proposals } = summarizeObserved([
      seen("a", ["guide", "staff"], "shelf"),
      seen("b", ["staff"], "title"),
      seen("c", ["staff"], "title"),
      // A role on one record names no rule's audience.
      seen("d", ["guest", "editor of e-1"], "note", true),
      seen("e", ["staff", "editor of e-1"], "donor"),
    ]);
    expect(proposals.map(({ name, rule }) => [name, rule.to, rule.permit])).toEqual([
      ["proposed-for-guide", "guide", { view: ["shelf"] }],
      ["proposed-for-staff", "staff", { view: ["donor", "title"] }],
      ["proposed-for-owner", "owner", { view: ["note"] }],
    ]);
  });
});
