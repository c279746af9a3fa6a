import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { actionNames, type Row, snapshotOf } from "portier";
import { openSnapshot } from "portier/snapshot";
import { describe, expect, it } from "vitest";
import { portierCli } from "../support/cli.js";
import { as, museumData, museumFile, museumFolder, portier, record, records, source } from "../support/museum.js";

// What each person must see and do is in people.expect.yaml; here is what expectations do not say: many at once, who of all people
// sees a field, forms of refusals, screens, and that the data is what it was made as.

const people = {
  director: "s-001",
  head: "s-002",
  keeper: "s-003",
  registrar: "s-005",
  conservator: "s-006",
  assistant: "s-007",
  volunteer: "s-008",
  left: "s-009",
  treasurer: "s-010",
} as const;

const tables = [...portier.schema.tables.keys()];
const objects = records("objects");
const loans = records("loans");

/** The fields of every record that a person sees, listed or opened; none for a record that does not exist for them. */
function seen(person: string | undefined, table: string, row: Row): string[] {
  const session = as(person);
  return Object.keys({ ...session.mask(table, row, "list"), ...session.mask(table, row, "view") }).sort();
}

function accepts(person: string, table: string, row: Row, values: Row): boolean {
  return as(person).checkEdit(table, row, values).accepted;
}

/** Those who see a field somewhere in a table. */
function whoSees(table: string, field: string, row: Row): string[] {
  return records("staff")
    .map((one) => one["id"] as string)
    .filter((person) => seen(person, table, row).includes(field));
}

describe("each person", () => {
  it("sees and does what the museum's table says, record by record", () => {
    const { code, out } = portierCli(["test", museumFile, "test/museum/people.expect.yaml", "--at", "2026-11-24"]);
    expect(out).toMatch(/^\d{4} passed, 0 failed\n$/);
    expect(code).toBe(0);
  });
});

describe("a visitor", () => {
  it("finds nothing else of the museum, and can do nothing", () => {
    const visitor = as();
    for (const table of tables) {
      for (const action of actionNames) {
        const isPublic = table === "objects" || table === "exhibitions" || table === "exhibits";
        const isShown = isPublic && (action === "list" || action === "view");
        expect(visitor.reach(action, table), `${action} ${table}`).toBe(isShown ? "some" : "none");
      }
    }
  });
});

describe("the registrar", () => {
  it("shares fee and courier with the requester, and otherwise with the director and, the fee, the treasurer", () => {
    const loan = record("loans", "l-002");
    expect(whoSees("loans", "fee", loan)).toEqual(["s-001", "s-003", "s-005", "s-010"]);
    expect(whoSees("loans", "courier", loan)).toEqual(["s-001", "s-003", "s-005"]);
  });
});

describe("what the registrar does with many", () => {
  it("takes objects out, with all that the registrar views", () => {
    expect(as(people.registrar).maskAll("objects", objects, "export")).toEqual(objects);
    expect(as(people.keeper).maskAll("objects", objects, "export")).toEqual([]);
  });

  it("brings objects in, each line judged, all or none", () => {
    const line = (number: number) => ({ accession: `BM-SH-90${number}`, title: "Anchor", department: "ships" });
    const many = as(people.registrar).checkImport("objects", [
      line(1),
      { ...line(2), keeper: "s-099" },
      line(1),
      line(3),
    ]);
    expect(many.accepted).toBe(false);
    expect(many.results.map((one) => (one.accepted ? "ok" : one.refusals[0]?.reason))).toEqual([
      "ok",
      "no-such-record",
      "key-taken",
      "ok",
    ]);
    expect(as(people.keeper).checkImport("objects", [line(1)]).accepted).toBe(false);
  });

  it("changes many at once, and is asked about what is on loan", () => {
    const some = objects.slice(0, 6);
    const change = { shelf: "N9-01" };
    const outcome = as(people.registrar).checkBulkEdit("objects", some, change);
    const onLoan = some.map((row) => (row["status"] === "on_loan" ? "unconfirmed" : "ok"));
    expect(outcome.results.map((one) => (one.accepted ? "ok" : one.reason))).toEqual(onLoan);
    expect(onLoan).toContain("unconfirmed");
    const confirmed = ["objects/what-is-on-loan-is-not-here"];
    expect(as(people.registrar).checkBulkEdit("objects", some, change, { confirmed }).accepted).toBe(true);
    expect(as(people.keeper).checkBulkEdit("objects", some, change, { confirmed }).accepted).toBe(false);
  });
});

describe("who requests a loan", () => {
  const values = {
    id: "l-900",
    object: "BM-SH-0001",
    borrower: "Hollin Town Collection",
    starts_on: "2027-02-01",
    ends_on: "2027-03-01",
  };

  it("becomes its requester", () => {
    const made = as(people.keeper).checkCreate("loans", values);
    expect(made).toMatchObject({ accepted: true, record: { requested_by: people.keeper, status: "draft" } });
  });

  it.each([
    ["another's name", { requested_by: "s-014" }, ["requested_by"]],
    ["nobody's name", { requested_by: null }, ["requested_by"]],
    ["a later state", { status: "requested" }, [undefined, "status"]],
    ["an object that is not there", { object: "BM-SH-9999" }, ["object"]],
  ])("cannot start one in %s", (_what, more, refused) => {
    const made = as(people.keeper).checkCreate("loans", { ...values, ...more });
    expect(made.accepted ? [] : made.refusals.map(({ field }) => field)).toEqual(expect.arrayContaining(refused));
    expect(made).toMatchObject({ accepted: false, reason: "refused" });
  });
});

describe("the director", () => {
  it("alone can withdraw an object", () => {
    const bell = record("objects", "BM-SH-0003");
    const able = records("staff")
      .map((one) => one["id"] as string)
      .filter((person) => accepts(person, "objects", bell, { status: "withdrawn" }));
    expect(able).toEqual([people.director]);
    const values = { accession: "BM-SH-9001", title: "Anchor", department: "ships", status: "withdrawn" };
    expect(as(people.registrar).checkCreate("objects", values).accepted).toBe(false);
    expect(as(people.director).checkCreate("objects", values).accepted).toBe(true);
  });
});

describe("nobody", () => {
  it("sees the phone of another but those above them", () => {
    expect(whoSees("staff", "phone", record("staff", "s-007"))).toEqual(["s-001", "s-002", "s-003", "s-007"]);
  });

  it("sees a salary but oneself and the treasurer", () => {
    expect(whoSees("staff", "salary", record("staff", "s-007"))).toEqual(["s-007", "s-010"]);
  });

  it("changes a salary", () => {
    for (const person of records("staff")) {
      for (const row of records("staff"))
        expect(accepts(person["id"] as string, "staff", row, { salary: "9999.00" })).toBe(false);
    }
  });
});

describe("exhibitions", () => {
  const exhibits = records("exhibits");

  it("show the title of an object only where the object itself may be seen", () => {
    for (const row of exhibits) {
      const object = record("objects", row["object"] as string);
      for (const person of [undefined, people.volunteer, people.assistant, people.registrar]) {
        const shown = as(person).mask("exhibits", row, "view");
        const visible = as(person).may("view", "objects", object, "title");
        expect("object_title" in (shown ?? {}), `${person} ${row["id"]}`).toBe(shown !== undefined && visible);
        if (shown !== undefined && visible) expect(shown["object_title"]).toBe(object["title"]);
      }
    }
  });

  it("are dropped by the director alone, and only when nothing stands in them", () => {
    const full = record("exhibitions", "e-3");
    expect(as(people.director).decide("delete", "exhibitions", full)).toMatchObject({
      permitted: false,
      note: "There are objects in this exhibition.",
    });
    const empty = { ...full, id: "e-9" };
    expect(as(people.director).may("delete", "exhibitions", empty)).toBe(true);
    expect(as("s-011").may("delete", "exhibitions", empty)).toBe(false);
  });
});

describe("the plan", () => {
  const lines = records("plan");
  const at = (person: string, now: string) => portier.session({ person, source, request: { now } });
  const cell = (row: Row, field: string) => `${String.fromCharCode(65 + columns.indexOf(field))}${row["row"]}`;
  const columns = ["item", "q1", "q2", "q3", "q4", "total", "remark"];
  const editableCells = (person: string, now: string) =>
    lines.flatMap((row) =>
      columns.filter((field) => at(person, now).may("edit", "plan", row, field)).map((field) => cell(row, field)),
    );
  const block = (letters: string) =>
    lines.slice(1).flatMap((row) => [...letters].map((letter) => `${letter}${row["row"]}`));

  it.each([
    ["2027-01-15T12:00:00Z", "BCDE"],
    ["2027-04-02T12:00:00Z", "CDE"],
    ["2027-08-01T12:00:00Z", "DE"],
    ["2028-01-01T12:00:00Z", ""],
  ])("on %s the treasurer sets the amounts in columns %s", (now, letters) => {
    expect(editableCells(people.treasurer, now)).toEqual(block(letters));
  });

  it("has a heading and totals that only the director sets, the totals after a confirmation", () => {
    const now = "2027-01-15T12:00:00Z";
    expect(editableCells(people.director, now)).toEqual(
      lines.flatMap((row) => [...columns].map((field) => cell(row, field))),
    );
    const outcome = at(people.director, now).checkEdit("plan", lines[1] as Row, { total: "5100.00" });
    const confirm = [
      { rule: "plan/totals-are-worked-out", note: expect.stringContaining("worked out from the quarters") },
    ];
    expect(outcome).toMatchObject({ accepted: false, reason: "unconfirmed", confirm });
    const confirmed = ["plan/totals-are-worked-out"];
    expect(
      at(people.director, now).checkEdit("plan", lines[1] as Row, { total: "5100.00" }, { confirmed }),
    ).toMatchObject({
      accepted: true,
      changes: { total: "5100.00" },
    });
  });

  it("keeps its heading row where it is", () => {
    const now = "2027-01-15T12:00:00Z";
    const withRows = { ...lines[0], row: 5 };
    expect(accepts(people.director, "plan", lines[0] as Row, { row: 5 })).toBe(true);
    expect(at(people.treasurer, now).checkEdit("plan", lines[0] as Row, { row: 5 }).accepted).toBe(false);
    expect(at(people.treasurer, now).may("edit", "plan", withRows, "q1")).toBe(true);
  });
});

describe("who left the museum", () => {
  it("finds nothing, not even what a visitor finds", () => {
    const session = as(people.left);
    for (const table of tables) {
      for (const action of actionNames) expect(session.reach(action, table), `${action} ${table}`).toBe("none");
      for (const row of records(table)) expect(seen(people.left, table, row)).toEqual([]);
    }
  });
});

describe("the museum's data", () => {
  it("is what the generator makes, on top of 20 objects written by hand", () => {
    const made = execFileSync("node", ["scripts/museum-data.mjs", "--print"], { encoding: "utf8" });
    expect(made).toBe(
      ["objects", "loans", "exhibits", "treatments"]
        .map((name) => readFileSync(`${museumData}/${name}.json`, "utf8"))
        .join(""),
    );
    const byHand: Row[] = JSON.parse(readFileSync(`${museumFolder}hand-written/objects.json`, "utf8"));
    expect([byHand.length, objects.length, loans.length, records("staff").length]).toEqual([20, 400, 60, 24]);
    expect(objects.slice(0, 20)).toEqual(byHand);
  });
});

describe("the screens", () => {
  const all = "objects object-card hand-over loans loan-request";
  it.each<[string | undefined, string | undefined, string]>([
    [undefined, "visit", "visit"],
    [people.volunteer, "visit", "visit museum"],
    [people.assistant, "objects", "visit objects object-card exhibits museum"],
    [people.keeper, "objects", `visit ${all} treatments exhibits museum`],
    [people.head, "objects", `visit ${all} treatments plan museum`],
    [
      people.registrar,
      "objects",
      "visit objects object-card hand-over new-object loans loan-request loan-decisions plan museum",
    ],
    [people.conservator, "treatments", "visit objects object-card treatments museum"],
    [people.treasurer, "plan", "visit loans plan museum"],
    [
      people.director,
      "administration",
      "visit objects object-card hand-over new-object loans loan-request treatments plan museum administration",
    ],
    [people.left, undefined, ""],
  ])("of %s begin at %s", (person, home, screens) => {
    const session = as(person);
    expect(session.screens().join(" ")).toBe(screens);
    expect(session.home()).toBe(home);
    const opened = openSnapshot(snapshotOf(session), { source });
    expect([opened.screens(), opened.home()]).toEqual([session.screens(), session.home()]);
  });
});

describe("whoever is refused", () => {
  // The note of a permit was never shown, though its condition is what failed.
  it("is told the note of a permit for them whose condition alone failed", () => {
    const note = "A loan can be changed while it is a draft.";
    const requested = records("loans").find(({ status }) => status === "requested");
    const own = as(String(requested?.["requested_by"]));
    const refusal = own.checkEdit("loans", requested, { borrower: "another" });
    expect(refusal).toMatchObject({ reason: "refused", refusals: [{ field: "borrower", message: note }] });
    expect(own.decide("edit", "loans", requested, "borrower")).toEqual({
      permitted: false,
      reason: "not-permitted",
      note,
    });
    // Not to somebody for whom it is not.
    const other = as("s-001").decide("edit", "loans", requested, "borrower");
    expect(other.permitted || other.note !== note).toBe(true);
  });
});
