import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { compile, type Row } from "portier";
import { createDatabase } from "portier/database";
import { jsonFileStore } from "portier/directory";
import { parseDocument } from "portier/document";
import { explain, explanationText } from "portier/explain";
import {
  administration,
  databaseStore,
  gridRows,
  memoryStore,
  moveProtections,
  protectionsIn,
  rangesToProtections,
  storeMigration,
} from "portier/people";
import { keptRanges } from "portier/ranges";
import { where } from "portier/sql";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
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
      readers-count: { to: reader, permit: { edit: [total] } }
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
  const as = (person: string) => people().as({ person, request });
  const database = () => createDatabase(portier, engine.connection);
  const edit = async (person: string, row: number, values: Row, confirmed: readonly string[] = []) => {
    const outcome = await database().as({ person, request }).edit("plan", `r-${row}`, values, { confirmed });
    return outcome.accepted ? "accepted" : (outcome.refusals[0]?.reason ?? outcome.reason);
  };
  const editors = async (row: number, field: string) => {
    const asked = await Promise.all(
      ["s-1", "s-2", "s-3", "s-4", "s-5"].map(async (person) => {
        const record = plan[row - 1] as Row;
        const may = await database()
          .as({ person, request })
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
      .as({ person: "s-3", request })
      .ask((session) => {
        const outcome = session.checkEdit("plan", plan[3], { q1: 8 });
        return outcome.accepted ? [] : (outcome.confirm ?? []);
      });
    expect(asked).toMatchObject({ note: "Think twice." });
    expect(await edit("s-3", 4, { q1: 8 }, [asked?.rule ?? ""])).toBe("accepted");
  });

  it("covers a cell, a block, a row, this column and all to its right, a sheet, and all except some cells", async () => {
    const isLocked = async (row: number, field: string) => !(await editors(row, field)).includes("s-3");
    const cases: [ranges: string | string[], except: string | undefined, locked: string[], open: string[]][] = [
      ["B2", undefined, ["2 q1"], ["2 q2", "3 q1"]],
      ["B2:C4", "C3", ["2 q1", "4 q2"], ["3 q2", "5 q1"]],
      ["3:3", undefined, ["3 item", "3 total"], ["4 item"]],
      ["C:", undefined, ["1 q2", "12 total"], ["1 q1"]],
      [["A1", "D5:D"], undefined, ["1 item", "12 total"], ["4 total"]],
      ["A:", ["B2:C4"] as unknown as string, ["1 item", "12 total", "5 q1"], ["2 q1", "4 q2"]],
    ];
    for (const [ranges, except, locked, open] of cases) {
      const given = { table: "plan", ranges, to: "director", ...(except === undefined ? {} : { except }) };
      expect(await as("s-1").protect(given)).toMatchObject({ accepted: true });
      for (const one of locked)
        expect(await isLocked(Number(one.split(" ")[0]), one.split(" ")[1] ?? ""), one).toBe(true);
      for (const one of open)
        expect(await isLocked(Number(one.split(" ")[0]), one.split(" ")[1] ?? ""), one).toBe(false);
      await engine.run("delete from portier_protections");
    }
  });

  it("is made by whom a rule lets, and changed by who made it or whom it names", async () => {
    const refusal = async (work: Promise<{ accepted: boolean }>) => {
      const outcome = (await work) as { accepted: boolean; reason?: string; problems?: readonly { code: string }[] };
      return outcome.accepted ? "accepted" : (outcome.problems?.[0]?.code ?? outcome.reason);
    };
    const cells = { table: "plan", ranges: "B2:B4" };
    expect(await refusal(as("s-3").protect(cells))).toBe("may-not-protect");
    for (const ranges of ["A2", "B1:B3", "B2:C9", "B2:E", "Z:", "1:1"]) {
      const found = await refusal(as("s-2").protect({ ...cells, ranges, to: "treasurer" }));
      expect(found, ranges).toBe(ranges === "B2:E" ? "range-outside" : "may-not-protect");
    }
    expect(await refusal(as("s-2").protect({ ...cells, ranges: "B2:C9", except: "C9", to: "treasurer" }))).toBe(
      "accepted",
    );
    for (const [to, code] of [
      ["tresurer", "unknown-who"],
      ["person s-9", "unknown-person"],
    ] as const)
      expect(await refusal(as("s-1").protect({ ...cells, to }))).toBe(code);
    await engine.run("delete from portier_protections");

    await as("s-1").protect({ ...cells, to: ["director", "person s-4"], note: "Agreed." });
    const [made] = await as("s-1").protections("plan");
    expect(made).toMatchObject({ by: "s-1", note: "Agreed.", to: ["director", "person s-4"], isYours: true });
    const id = made?.id ?? "";
    expect(await as("s-2").protections("plan")).toMatchObject([{ id, isYours: false }]);
    expect(await as("s-5").protections("plan")).toHaveLength(1);
    expect(await refusal(as("s-2").unprotect({ id }))).toBe("protected-from-you");
    expect(await refusal(as("s-4").unprotect({ id }))).toBe("no-such-protection");
    expect(await refusal(as("s-2").changeProtection({ id, to: "treasurer" }))).toBe("protected-from-you");
    // What lets somebody in, or leaves cells, is confirmed first; what closes more is not.
    expect(await refusal(as("s-1").changeProtection({ id, ranges: "B2:B5" }))).toBe("accepted");
    for (const change of [
      { ranges: "B3:B5" },
      { to: ["director", "south"] },
      { effect: "confirm" as const },
      { until: "2027-03-01" },
    ])
      expect(await refusal(as("s-1").changeProtection({ id, ...change })), JSON.stringify(change)).toBe("unconfirmed");
    const { outcome, differences } = await as("s-1").previewProtection({ kind: "unprotect", id });
    expect(outcome).toMatchObject({ reason: "unconfirmed", warnings: [{ code: "lifts-protection" }] });
    expect(differences).toMatchObject([
      {
        persons: ["s-2", "s-3"],
        gains: [
          { actions: ["edit", "bulk"], fields: ["q1"], records: 4 },
          { actions: ["delete"], records: 4 },
        ],
      },
    ]);
    expect(await editors(2, "q1")).toBe("s-1 s-4");
    const confirmed = outcome.warnings.map((one) => one.id);
    expect(await as("s-1").unprotect({ id }, { confirmed })).toMatchObject({ accepted: true });
    expect(await editors(2, "q1")).toBe("s-1 s-2 s-3 s-4");
    const store = databaseStore(portier, engine.connection);
    const kinds = (await store.auditLog({ limit: 3 })).map((entry) => entry.kind);
    expect(kinds).toEqual(["unprotect", "change-protection", "protect"]);
    expect((await store.verifyAuditLog()).problem).toBeUndefined();
  });

  it("warns of locking oneself out, or everybody, and is copied from another", async () => {
    const told = await as("s-1").protect({ table: "plan", ranges: "B2", to: [] });
    expect(told).toMatchObject({ reason: "unconfirmed", warnings: [{ code: "locks-everybody" }] });
    const other = await as("s-1").protect({ table: "plan", ranges: "B2", to: "treasurer" });
    expect(other).toMatchObject({ reason: "unconfirmed", warnings: [{ code: "locks-oneself" }] });
    await as("s-1").protect({ table: "plan", ranges: "B2", to: ["director", "south"], note: "As agreed." });
    const [first] = await as("s-1").protections("plan");
    await as("s-1").protect({ table: "plan", ranges: "C7:D9", copyOf: first?.id });
    const all = await as("s-1").protections("plan");
    expect(all).toContainEqual(
      expect.objectContaining({ ranges: ["C7:D9"], to: ["director", "south"], note: "As agreed." }),
    );
  });

  it("counts from and until an instant", async () => {
    await as("s-1").protect({ table: "plan", ranges: "B2", from: "2027-02-01", until: "2027-03-01" });
    const at = async (now: string) =>
      database()
        .as({ person: "s-3", request: { now } })
        .ask((session) => session.may("edit", "plan", plan[1] as Row, "q1"));
    expect(await Promise.all(["2027-01-31T12:00:00Z", "2027-02-10T00:00:00Z", "2027-03-01T00:00:00Z"].map(at))).toEqual(
      [true, false, true],
    );
  });

  it("moves with the rows, in the transaction that moves them, and tells what would be lost", async () => {
    await as("s-1").protect({ table: "plan", ranges: ["B4:C6", "D:D"], to: "director", note: "Ours." });
    const rows = (person: string) => gridRows(portier, engine.connection, "plan").as({ person, request });
    const cells = async () => (await as("s-1").protections("plan")).flatMap((one) => one.ranges);
    const places = async () => {
      const found = await engine.run("select * from plan");
      return found.map((row) => [String(row["id"]), Number(row["row"])] as const).sort((a, b) => a[1] - b[1]);
    };
    // Above, it shifts; inside, whoever may not edit it makes no row; who may makes it grow.
    expect(await rows("s-3").insert(2, { id: "new-1", item: "more" })).toMatchObject({ accepted: true });
    expect(await cells()).toEqual(["B5:C7", "D:D"]);
    expect(await rows("s-3").insert(6, { id: "new-2", item: "more" })).toMatchObject({
      accepted: false,
      reason: "refused",
    });
    expect(await cells()).toEqual(["B5:C7", "D:D"]);
    expect((await places()).map(([, row]) => row)).toEqual(Array.from({ length: 13 }, (_, index) => index + 1));
    expect(await rows("s-1").insert(6, { id: "new-2", item: "more" })).toMatchObject({ accepted: true });
    expect(await cells()).toEqual(["B5:C8", "D:D"]);
    expect(await edit("s-3", 5, { q1: 99 })).toBe("reserved");
    // A row of it is deleted, or moved away, by nobody else.
    expect(await rows("s-3").delete("r-5")).toMatchObject({ accepted: false });
    expect(await rows("s-3").move("r-5", 1)).toMatchObject({ accepted: false });
    expect(await rows("s-3").move("r-12", 3)).toMatchObject({ accepted: true });
    expect(await cells()).toEqual(["B6:C9", "D:D"]);
    expect((await places())[2]).toEqual(["r-12", 3]);
    // Out of it, cells are lost: that is agreed to first.
    const out = await rows("s-1").move("r-5", 1);
    expect(out).toMatchObject({ accepted: false, reason: "lost-cells", lost: [{ note: "Ours." }] });
    expect(await rows("s-1").move("r-5", 1, { acceptLost: true })).toMatchObject({ accepted: true });
    expect((await places())[0]).toEqual(["r-5", 1]);
    expect((await places()).map(([, row]) => row)).toEqual(Array.from({ length: 14 }, (_, index) => index + 1));
    for (const key of ["new-2", "r-4"]) await rows("s-1").delete(key);
    const last = (await places())[6]?.[0] ?? "";
    expect(await cells()).toEqual(["B7:C7", "D:D"]);
    expect(await rows("s-1").delete(last)).toMatchObject({ reason: "lost-cells", lost: [{ range: "B7:C7" }] });
    expect(await rows("s-1").delete(last, { acceptLost: true })).toMatchObject({ accepted: true });
    expect(await cells()).toEqual(["D:D"]);
    const [entry] = await databaseStore(portier, engine.connection).auditLog({ limit: 1 });
    expect(entry).toMatchObject({
      kind: "move-cells",
      by: "s-1",
      details: ["plan: delete 1 rows at 7", expect.stringContaining("lost B7:C7")],
    });
  });

  it("stays with its rows, whoever inserts and protects at the same time", async () => {
    await as("s-1").protect({ table: "plan", ranges: ["B10:C12"], to: "director", note: "Last." });
    const rows = gridRows(portier, engine.connection, "plan");
    const work = Array.from({ length: 6 }, (_, turn) =>
      turn % 3 === 2
        ? as("s-1").protect({ table: "plan", ranges: `D${turn}:D${turn + 1}`, to: "director" })
        : rows.as({ person: turn % 2 === 0 ? "s-1" : "s-3", request }).insert(2, { id: `new-${turn}`, item: "more" }),
    );
    expect((await Promise.all(work)).map(({ accepted }) => accepted)).toEqual(work.map(() => true));
    const found = await engine.run("select * from plan");
    const numbers = found.map((row) => Number(row["row"])).sort((a, b) => a - b);
    expect(numbers).toEqual(Array.from({ length: plan.length + 4 }, (_, index) => index + 1));
    const [last] = (await as("s-1").protections("plan")).filter(({ note }) => note === "Last.");
    expect(last?.ranges).toEqual(["B14:C16"]);
    // What was protected is what is protected.
    const held = found.filter((row) => Number(row["row"]) >= 14).map((row) => String(row["id"]));
    expect(held.sort()).toEqual(["r-10", "r-11", "r-12"]);
    expect((await databaseStore(portier, engine.connection).verifyAuditLog()).problem).toBeUndefined();
  });

  it("is in filters, explanations and what is listed, and holds while it is changed", async () => {
    await as("s-1").protect({ table: "plan", ranges: ["A2:D4", "A8:D"], to: "director", note: "Ours." });
    const found = await database()
      .as({ person: "s-5", request })
      .ask((session) => {
        const { text, params } = where(session, "plan", "edit", engine.dialect);
        return {
          text,
          params,
          ranges: keptRanges(session, "plan"),
          why: explain(session, { action: "edit", table: "plan", record: plan[1] as Row, field: "total" }),
        };
      });
    const open = await engine.run(
      `select ${engine.dialect.quoteName("row")} from plan where ${found.text}`,
      found.params,
    );
    expect(open.map((row) => Number(row["row"])).sort((a, b) => a - b)).toEqual([1, 5, 6, 7]);
    const rule = expect.stringMatching(/^plan\/protection\./);
    expect(found.ranges).toContainEqual(
      expect.objectContaining({ range: "A8:D", rule, effect: "reserve", note: "Ours." }),
    );
    expect(explanationText(found.why, "s-5", "plan r-2")).toMatch(/plan\/protection\./);
    // Each is judged by what is protected when it is written.
    const edits = Array.from({ length: 6 }, (_, turn) => edit("s-3", 6, { q1: 100 + turn }));
    const locked = as("s-1").protect({ table: "plan", ranges: "B6", to: "director" });
    const outcomes = await Promise.all(edits);
    expect(await locked).toMatchObject({ accepted: true });
    expect(outcomes.every((one) => one === "accepted" || one === "reserved")).toBe(true);
    expect(await edit("s-3", 6, { q1: 1 })).toBe("reserved");
  });
});

describe("what is protected", () => {
  it("is kept in memory and in a file as in a database", async () => {
    const folder = mkdtempSync(join(tmpdir(), "portier-protections-"));
    const source = portier.source({ staff, plan, portier_protections: [] });
    const file = join(folder, "roles.json");
    for (const store of [memoryStore(portier, { source }), jsonFileStore(portier, file, { source })]) {
      const director = administration(portier, store).as({ person: "s-1", request });
      await director.protect({ table: "plan", ranges: "B2:C4", except: "C3", note: "Ours." });
      const may = (person: string, row: number, field: string) =>
        portier.session({ person, source: store.source, request }).may("edit", "plan", plan[row - 1] as Row, field);
      expect([may("s-3", 2, "q1"), may("s-1", 2, "q1"), may("s-3", 3, "q2")]).toEqual([false, true, true]);
      expect(await store.read((state) => protectionsIn(portier, state, "plan"))).toMatchObject([
        { by: "s-1", except: ["C3"] },
      ]);
    }
    // A migration adds a column before them, and takes one away.
    const store = memoryStore(portier, { source });
    await administration(portier, store)
      .as({ person: "s-1", request })
      .protect({ table: "plan", ranges: ["B2:C4", "D:D"] });
    const kept = () => store.read((state) => protectionsIn(portier, state, "plan")[0]?.ranges);
    const change = (kind: "insert" | "delete", at: number) => ({ kind, of: "columns", at, count: 1 }) as const;
    expect(await moveProtections(portier, store, "plan", change("insert", 2))).toEqual({ isDone: true, lost: [] });
    expect(await kept()).toEqual(["C2:D4", "E:E"]);
    expect(await moveProtections(portier, store, "plan", change("delete", 5))).toMatchObject({
      isDone: false,
      lost: [{ range: "E:E" }],
    });
    await moveProtections(portier, store, "plan", change("delete", 5), { acceptLost: true });
    expect(await kept()).toEqual(["C2:D4"]);
    // Another process reads the same.
    const again = jsonFileStore(portier, file, { source });
    expect(
      portier.session({ person: "s-3", source: again.source, request }).may("edit", "plan", plan[1] as Row, "q1"),
    ).toBe(false);
  });

  it("locks every cell where it cannot be found out, and keeps everybody out where it cannot be read", () => {
    const session = (more: Record<string, readonly Row[]>) =>
      portier.session({ person: "s-1", source: portier.source({ staff, plan, ...more }), request });
    const row = plan[4] as Row;
    expect(session({ portier_protections: [] }).may("edit", "plan", row, "q1")).toBe(true);
    expect(session({}).decide("edit", "plan", row, "q1")).toMatchObject({
      permitted: false,
      rule: "plan/protection.unknown",
    });
    expect(session({}).may("view", "plan", row, "q1")).toBe(true);
    const changes = [
      session({}).checkEdit("plan", row, { row: 9 }),
      session({}).checkCreate("plan", { id: "new", row: 20 }),
      session({}).checkDelete("plan", row),
    ];
    expect(changes.map((one) => one.accepted)).toEqual([false, false, false]);
    const kept = {
      id: "x",
      table: "plan",
      ranges: ["B2"],
      except: null,
      effect: "reserve",
      to: ["nobody-any-more"],
      note: null,
    };
    const times = { from: null, until: null, by: null, at: now, stamp: 1 };
    // A role that is gone lets nobody in.
    const one = session({ portier_protections: [{ ...kept, ...times }] });
    expect([one.may("edit", "plan", plan[1] as Row, "q1"), one.may("edit", "plan", row, "q1")]).toEqual([false, true]);
    for (const bad of [{ ranges: ["B2 and B3"] }, { ranges: [] }, { effect: "allow" }, { until: "soon" }])
      expect(() => session({ portier_protections: [{ ...kept, ...times, ...bad }] }), JSON.stringify(bad)).toThrow(
        /bad-protection/,
      );
  });

  it("is declared where it can be kept, and asks nothing of records", () => {
    const compiled = (text: string, other: string) => () =>
      compile(parseDocument(rulesFile.replace(text, other)).document);
    expect(compiled(", assignments: true", "")).toThrow(/protections-not-kept/);
    expect(
      compiled("to: director, permit: { protect: all }", "to: director, where: q1 > 1, permit: { protect: all }"),
    ).toThrow(/protect-reads-record/);
    expect(compiled("protections: true", "protections: false")).toThrow(/has no action "protect"/);
    expect(compiled("    grid: {", "    actions: [protect]\n    grid: {")).toThrow(
      /A grid with protections has this action/,
    );
  });

  it("comes from ranges that rules fix", () => {
    const fixed = rulesFile.replace(
      "      all-read:",
      `      heading: { to: director, reserve: { edit: { cells: ["A1:D1"] } }, note: Heading. }
      closed: { from: "2027-02-01", deny: { edit: { cells: ["B:B"], except: ["B1"] } } }
      asks: { except: treasurer, confirm: { edit: { cells: "D:D" } } }
      stays: { where: q1 > 1, deny: { edit: { cells: "C:C" } } }
      all-read:`,
    );
    const { document, protections } = rangesToProtections(parseDocument(fixed).document, "plan", now);
    expect(protections).toMatchObject([
      { id: "asks", ranges: ["D:D"], effect: "confirm", to: ["treasurer"] },
      { id: "closed", ranges: ["B:B"], except: ["B1"], effect: "reserve", to: [], from: "2027-02-01T00:00:00.000000Z" },
      { id: "heading", ranges: ["A1:D1"], effect: "reserve", to: ["director"], note: "Heading." },
    ]);
    expect(Object.keys((document.tables["plan"] as { rules: object }).rules)).toEqual([
      "stays",
      "all-read",
      "all-write",
      "readers-count",
      "director-protects",
      "treasurer-protects-amounts",
    ]);
  });
});
