import { compile, type Row, snapshotOf } from "portier";
import { createDatabase } from "portier/database";
import { parseDocument } from "portier/document";
import { openSnapshot } from "portier/snapshot";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { codesOf } from "../support/codes.js";
import { createTables, type Engine, engines, held, storeAll } from "../support/engines.js";

/** I want new records to belong to the tenant, the day and the person they are made by, in every table. */
const rulesFile = `
portier: 1
timeZone: Europe/Lisbon
people: { table: staff, roles: post, active: active }
roles: { keeper: {}, director: {} }
tables:
  "*":
    rules:
      one-tenant-alone: { where: tenant <> me.tenant, alsoAfter: true, skip: [staff], deny: { view: all, create: all, edit: [all, owner] } }
      keepers-keep: { to: keeper, skip: [staff], permit: { view: all, create: [all, owner], edit: all } }
  staff:
    key: id
    fields: { id: text, post: { choice: [keeper, director] }, tenant: text, site: { type: text, optional: true }, active: boolean }
    rules:
      known: { to: signed-in, permit: { list: [site] } }
  objects:
    key: id
    owner: keeper
    fields:
      id: text
      keeper: { reference: staff }
      entered_by: { reference: staff, default: me }
      tenant: { type: text, default: me.tenant }
      site: { type: text, optional: true, default: me.site }
      entered_on: { type: date, default: today }
      entered_at: { type: timestamp, default: now }
      note: { type: text, default: today }
  loans:
    key: id
    owner: requested_by
    fields: { id: text, requested_by: { reference: staff }, tenant: { type: text, default: me.tenant } }
`;

const data = {
  staff: [
    { id: "wren", post: "keeper", tenant: "brackwater", site: "south", active: true },
    { id: "kofi", post: "keeper", tenant: "other", site: null, active: true },
  ],
  objects: [],
  loans: [],
};
const portier = compile(parseDocument(rulesFile).document);
const now = "2027-06-30T23:30:00Z";
// In Lisbon it is the next day already.
const made = (person: string, tenant: string, site: string | null): Row => ({
  id: "o1",
  keeper: person,
  entered_by: person,
  tenant,
  site,
  entered_on: "2027-07-01",
  entered_at: "2027-06-30T23:30:00.000000Z",
  note: "today",
});
const people: readonly (readonly [string, Row])[] = [
  ["wren", made("wren", "brackwater", "south")],
  ["kofi", made("kofi", "other", null)],
];

describe("defaults from the person", () => {
  it.each(people)("are what %s is, in records, forms and snapshots", (person, record) => {
    const session = portier.session({ person, source: portier.source(data), request: { now } });
    const browser = openSnapshot(JSON.parse(JSON.stringify(snapshotOf(session))), { source: portier.source(data) });
    for (const one of [session, browser]) {
      expect(one.checkCreate("objects", { id: "o1" })).toMatchObject({ accepted: true, record });
      const values = one.form("objects")?.fields.map(({ name, value }) => [name, value]);
      expect(Object.fromEntries(values ?? [])).toMatchObject({ tenant: record["tenant"], site: record["site"] });
      // A record of another tenant is as little made as one is moved there.
      expect(one.checkCreate("loans", { id: "l1", tenant: "elsewhere" })).toMatchObject({ reason: "refused" });
      expect(one.checkCreate("loans", { id: "l1" })).toMatchObject({ accepted: true });
    }
  });

  it("are nothing for a visitor, and unknown where they cannot be read", () => {
    const visitor = portier.session({ source: portier.source(data), request: { now } });
    expect(visitor.form("objects")?.fields.find(({ name }) => name === "tenant")?.value).toBeUndefined();
    const broken = { ...data.staff[0], tenant: 7 };
    const session = portier.session({
      person: broken,
      source: portier.source(data),
      request: { now },
      onDiagnostic: () => {},
    });
    expect(session.checkCreate("objects", { id: "o1" }).accepted).toBe(false);
  });

  it.each([
    ["default: now", "default: today", "wrong-field-type"],
    ["date, default: today", "date, default: now", "wrong-field-type"],
    ["default: me.site", "default: me.sight", "unknown-field"],
    ["default: me }", "default: me.site }", "wrong-field-type"],
    ["date, default: today", "date, default: tomorrow", "bad-default"],
    ["[all, owner], edit", "[all, ownr], edit", "unknown-field"],
    ["    owner: requested_by\n", "", "no-owner"],
  ])("%s written as %s is refused: %s", (before, after, code) => {
    expect(codesOf(rulesFile.replace(before, after))).toContain(code);
  });

  describe.each(Object.entries(engines))("on %s", (_name, open) => {
    let engine: Engine;
    beforeAll(async () => {
      engine = await open();
      await createTables(engine, portier.schema);
      await storeAll(engine, portier.schema, data);
    });
    afterAll(() => engine?.close());

    it("are stored", async () => {
      const database = createDatabase(portier, engine.connection);
      await database.as({ person: "wren", request: { now } }).create("objects", { id: "o1" });
      const [stored] = await held(engine, portier.schema.tables.get("objects") as never);
      expect(stored).toMatchObject({
        tenant: "brackwater",
        site: "south",
        entered_by: "wren",
        entered_on: "2027-07-01",
      });
    });
  });
});
