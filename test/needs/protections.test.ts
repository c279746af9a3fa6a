import { compile, type Row } from "portier";
import { openDatabase } from "portier/database";
import { parseDocument } from "portier/document";
import { explain, explanationText } from "portier/explain";
import { administration, databaseStore, gridRows, memoryStore, protectionsIn, storeMigration } from "portier/people";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { codeOf, codesOf } from "../support/codes.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";

/** I want the people who use a sheet to protect cells of it themselves. */
const rulesFile = `
portier: 1
people: { table: staff, roles: post, assignments: true }
roles:
  clerk: {}
  treasurer: {}
  director: {}
  reader: {}
groups:
  south: { members: { where: site = 'south' } }
tables:
  staff:
    key: id
    fields: { id: text, post: { choice: [clerk, treasurer, director, reader] }, site: { choice: [north, south], optional: true } }
    rules: { all-are-known: { to: signed-in, permit: { list: all } } }
  plan:
    key: id
    grid: { position: row, protections: true }
    fields:
      id: text
      row: integer
      item: { type: text, optional: true }
      q1: { type: integer, optional: true }
      q2: { type: integer, optional: true }
      total: { type: integer, optional: true }
    rules:
      all-read: { to: signed-in, permit: { view: all } }
      all-write: { to: [clerk, treasurer, director], permit: { edit: all, create: all, delete: yes, bulk: all } }
      director-protects: { to: director, permit: { protect: all } }
      treasurer-protects-amounts: { to: treasurer, permit: { protect: { cells: "B2:D", except: "C9" } } }
`;

const portier = compile(parseDocument(rulesFile).document);
const now = "2027-01-31T12:00:00Z";
const request = { now };

const staff: Row[] = [
  { id: "s-1", post: "director", site: null },
  { id: "s-2", post: "treasurer", site: "north" },
  { id: "s-3", post: "clerk", site: "south" },
  { id: "s-4", post: "clerk", site: "north" },
  { id: "s-5", post: "reader", site: "south" },
];
const plan: Row[] = Array.from({ length: 12 }, (_, index) => ({
  ...{ id: `r-${index + 1}`, row: index + 1, item: `item ${index + 1}` },
  ...{ q1: index, q2: 2 * index, total: 3 * index },
}));

describe.each(Object.entries(engines))("a sheet whose cells people protect, on %s", (_name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, portier.schema);
    for (const statement of storeMigration(portier, engine.dialect)) await engine.run(statement);
  });
  afterAll(() => engine?.close());
  beforeEach(async () => {
    await engine.run("delete from portier_protections");
    await storeAll(engine, portier.schema, { plan, staff });
  });

  const people = () => administration(portier, databaseStore(portier, engine.connection));
  const as = (person: string) => people().as(person, { request });
  const database = () => openDatabase(portier, engine.connection);
  const edit = async (person: string, row: number, values: Row, confirmed: readonly string[] = []) => {
    const outcome = await database().as(person, { request }).edit("plan", `r-${row}`, values, { confirmed });
    return outcome.accepted ? "accepted" : (outcome.refusals[0]?.reason ?? outcome.reason);
  };
  const editors = async (row: number, field: string) => {
    const asked = await Promise.all(
      ["s-1", "s-2", "s-3", "s-4", "s-5"].map(async (person) => {
        const record = plan[row - 1] as Row;
        const may = await database()
          .as(person, { request })
          .ask((session) => session.may("edit", "plan", record, field));
        return may ? person : "";
      }),
    );
    return asked.filter((one) => one !== "").join(" ");
  };

  it("is for me alone, for persons, roles or groups, or only warns", async () => {
    expect(await editors(2, "q1")).toBe("s-1 s-2 s-3 s-4");
    expect(await as("s-2").protect({ table: "plan", ranges: "B2" })).toMatchObject({ accepted: true, warnings: [] });
    expect(await editors(2, "q1")).toBe("s-2");
    expect(await editors(3, "q1")).toBe("s-1 s-2 s-3 s-4");
    await as("s-1").protect({ table: "plan", ranges: "B3", to: ["director", "person s-4", "south"] });
    // A person stays allowed although their role is not; the group lets in whoever is in it, as far as they may edit at all.
    expect(await editors(3, "q1")).toBe("s-1 s-3 s-4");
    await as("s-1").protect({ table: "plan", ranges: "B4", effect: "confirm", to: "director", note: "Think twice." });
    expect(await editors(4, "q1")).toBe("s-1 s-2 s-3 s-4");
    expect(await edit("s-3", 4, { q1: 7 })).toBe("unconfirmed");
    expect(await edit("s-1", 4, { q1: 7 })).toBe("accepted");
    const [asked] = await database()
      .as("s-3", { request })
      .ask((session) => {
        const outcome = session.accept("edit", "plan", plan[3], { q1: 8 });
        return outcome.accepted ? [] : (outcome.confirm ?? []);
      });
    expect(asked).toMatchObject({ note: "Think twice." });
    expect(await edit("s-3", 4, { q1: 8 }, [asked?.rule ?? ""])).toBe("accepted");
  });
});
