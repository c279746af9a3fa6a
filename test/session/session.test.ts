import {
  actionNames,
  compile,
  type Diagnostic,
  type DocumentInput,
  PortierError,
  type Row,
  type SessionOptions,
  type TableInput,
} from "portier";
import { describe, expect, it } from "vitest";
import { as, portier as museum, record, source } from "../support/museum.js";

const bell = () => record("objects", "BM-SH-0003");

/** The code of the error that a call throws; undefined when it throws nothing. */
function codeOf(call: () => unknown): string | undefined {
  try {
    call();
    return undefined;
  } catch (error) {
    if (!(error instanceof PortierError)) throw error;
    return error.code;
  }
}

describe("opening a session", () => {
  it.each<[string, SessionOptions, string | undefined]>([
    ["a visitor", {}, undefined],
    ["a person by key", { person: "s-003", source }, undefined],
    [
      "a person by record",
      { person: { id: "s-003", post: "keeper", active: true, department: "ships" }, source },
      undefined,
    ],
    [
      "a record without a source for link tables",
      { person: { id: "s-003", post: "keeper", active: true } },
      "needs-source",
    ],
    ["a key without a source", { person: "s-003" }, "needs-source"],
    ["a record without key", { person: { post: "keeper", active: true } }, "bad-value"],
    ["a role with another capital", { person: { id: "s-003", post: "Keeper", active: true } }, "unknown-role"],
    ["an undeclared request value", { request: { site: "north" } }, "unknown-request"],
    ["an instant without zone", { request: { now: "2027-01-31T09:00:00" } }, "bad-value"],
    ["an instant as Date", { request: { now: new Date(0) } }, undefined],
  ])("of %s", (_what, options, code) => {
    expect(codeOf(() => museum.session(options))).toBe(code);
  });

  it.each([
    ["a key that is not there", { person: "s-099", source }],
    ["somebody who is not active", { person: { id: "s-003", post: "keeper", active: false } }],
    ["somebody of whom that is unknown", { person: { id: "s-003", post: "keeper", active: null } }],
    ["somebody whose mark is missing", { person: { id: "s-003", post: "keeper" } }],
  ])("of %s meets nothing, not even what is for anyone", (_what, options) => {
    const session = museum.session(options);
    const shown = record("objects", "BM-SH-0001");
    expect(session.mask("objects", shown)).toBeUndefined();
    expect(actionNames.map((action) => session.reach(action, "objects"))).toEqual(actionNames.map(() => "none"));
    expect(session.roles).toEqual([]);
  });
});

describe("a question that names nothing, or no record, is an error and no answer", () => {
  const session = as("s-003");
  it.each<[string, () => unknown, string]>([
    ["an unknown table", () => session.may("view", "object", bell()), "unknown-table"],
    ["an unknown field", () => session.may("view", "objects", bell(), "titel"), "unknown-field"],
    ["an inherited name as a table", () => session.may("view", "constructor", bell()), "unknown-table"],
    ["an inherited name as a field", () => session.may("view", "objects", bell(), "toString"), "unknown-field"],
    ["an unknown action", () => session.may("veiw" as "view", "objects", bell()), "unknown-action"],
    ["an inherited name as an action", () => session.may("__proto__" as "view", "objects", bell()), "unknown-action"],
    ["no record", () => session.may("view", "objects"), "wrong-call"],
    ["a list as a record", () => session.may("view", "objects", [] as unknown as Row), "wrong-call"],
    ["a field of delete", () => session.may("delete", "objects", bell(), "title"), "wrong-call"],
    ["a mask for edit", () => session.mask("objects", bell(), "edit" as "view"), "wrong-call"],
    ["a change that is none", () => session.checkAction("view" as never, "objects", bell()), "wrong-call"],
    ["no values", () => session.checkEdit("objects", bell(), undefined as unknown as Row), "wrong-call"],
    ["reach of an unknown action", () => session.reach("use" as "view", "objects"), "unknown-action"],
  ])("%s", (_what, call, code) => {
    expect(codeOf(call)).toBe(code);
  });
});

const paths: DocumentInput = {
  portier: 1,
  people: { table: "staff", manager: "boss", roles: "post" },
  roles: { keeper: {} },
  tables: {
    staff: {
      key: "id",
      owner: "id",
      fields: {
        id: "text",
        post: { choice: ["keeper"], optional: true },
        boss: { reference: "staff", optional: true },
      },
    },
    objects: {
      key: "id",
      owner: "keeper",
      fields: { id: "text", title: "text", keeper: { reference: "staff", optional: true } },
      rules: {
        simple: { to: "keeper", where: "title = 'a'", permit: { view: ["title"] } },
        deep: { to: "keeper", where: "keeper.post = 'keeper'", permit: { view: ["keeper"] } },
        "never-boss": { to: "above owner", deny: { view: ["keeper"] } },
      },
    },
  },
};

describe("a fault is a denial, and is reported", () => {
  const diagnostics: Diagnostic[] = [];
  const open = (from: SessionOptions["source"]) => {
    diagnostics.length = 0;
    const options = from === undefined ? {} : { source: from };
    return compile(paths).session({
      person: { id: "p1", post: "keeper", boss: null },
      onDiagnostic: (diagnostic) => diagnostics.push(diagnostic),
      ...options,
    });
  };
  const row = { id: "o", title: "a", keeper: "p1" };

  it("when a condition reads other records and there is no source", () => {
    const session = open(undefined);
    expect(session.decide("view", "objects", row, "keeper")).toEqual({ permitted: false, reason: "fault" });
    expect(diagnostics.map(({ kind }) => kind)).toEqual(["fault"]);
    expect(session.mask("objects", row)).toEqual({ id: "o", title: "a" });
    // A question that needs no other record is not touched by it.
    expect(session.may("view", "objects", row, "title")).toBe(true);
  });

  it("when the source fails", () => {
    const session = open({
      find: () => {
        throw new Error("the database is away");
      },
    });
    expect(session.decide("view", "objects", row, "keeper").reason).toBe("fault");
    expect(diagnostics[0]?.message).toContain("the database is away");
    expect(session.checkEdit("objects", { ...row, title: "b" }, { title: "c" })).toEqual({
      accepted: false,
      reason: "fault",
      refusals: [],
    });
  });
});

describe("a source that is asynchronous by mistake", () => {
  const promised = { find: () => Promise.resolve({ id: "p1" }) } as unknown as NonNullable<SessionOptions["source"]>;

  it("makes nothing exist: what needs it is a fault, and a session by key does not open", () => {
    const document: DocumentInput = {
      ...paths,
      tables: {
        ...paths.tables,
        staff: {
          ...(paths.tables["staff"] as TableInput),
          rules: { known: { to: "signed-in", permit: { view: "all" } } },
        },
        objects: {
          ...(paths.tables["objects"] as TableInput),
          rules: { all: { to: "signed-in", permit: { view: "all", edit: ["keeper"] } } },
        },
      },
    };
    const diagnostics: Diagnostic[] = [];
    const person = { id: "p1", post: "keeper", boss: null };
    const session = compile(document).session({
      person,
      source: promised,
      onDiagnostic: (diagnostic) => diagnostics.push(diagnostic),
    });
    const outcome = session.checkEdit("objects", { id: "o", title: "a", keeper: null }, { keeper: "nobody" });
    expect(outcome).toEqual({ accepted: false, reason: "fault", refusals: [] });
    expect(diagnostics[0]?.message).toContain('The source returned a promise for "staff"');
    expect(codeOf(() => compile(document).session({ person: "p1", source: promised }))).toBe("bad-source");
  });
});

describe("bad data", () => {
  it("is not shown, is unknown to conditions, and is reported", () => {
    const diagnostics: Diagnostic[] = [];
    const session = museum.session({
      person: "s-005",
      source,
      onDiagnostic: (diagnostic) => diagnostics.push(diagnostic),
    });
    const row = { ...bell(), insured_value: "1e3", status: "lost" };
    const seen = session.mask("objects", row);
    expect(seen).toHaveProperty("title");
    expect(seen).not.toHaveProperty("insured_value");
    expect(seen).not.toHaveProperty("status");
    expect(diagnostics.map(({ kind, field }) => [kind, field])).toEqual([
      ["bad-data", "status"],
      ["bad-data", "insured_value"],
    ]);
  });
});

describe("a change", () => {
  it("lists every refused field and leaves the stored record as it is", () => {
    const stored = Object.freeze({ ...bell() });
    const outcome = as("s-003").checkEdit("objects", stored, {
      label: "Rung.",
      title: "Bell",
      insured_value: "1.00",
      status: "withdrawn",
      tag: "x",
    });
    expect(outcome).toMatchObject({ accepted: false, reason: "refused" });
    expect(outcome.accepted ? [] : outcome.refusals.map(({ field, reason }) => [field, reason])).toEqual([
      ["tag", "no-such-field"],
      ["title", "not-permitted"],
      ["status", "reserved"],
      ["insured_value", "reserved"],
    ]);
    const note = "An object leaves the collection only by the director's hand.";
    expect(outcome.accepted ? [] : outcome.refusals.map(({ message }) => message)).toContain(note);
    expect(stored).toEqual(bell());
  });

  it.each([
    ["nothing", {}, {}],
    ["what is stored already", { title: bell()["title"], label: null }, {}],
    ["one field", { label: "Rung." }, { label: "Rung." }],
  ])("of %s is accepted", (_what, values, changes) => {
    const outcome = as("s-003").checkEdit("objects", bell(), values);
    expect(outcome).toEqual({ accepted: true, record: { ...bell(), ...changes }, changes, dropped: [] });
  });

  it.each([
    ["a value of another type", { label: 7 }, "label"],
    ["a choice that is none", { status: "lost" }, "status"],
    ["null where a value is needed", { status: null }, "status"],
  ])("to %s is invalid, after it was permitted", (_what, values, field) => {
    const outcome = as("s-001").checkEdit("objects", bell(), values);
    expect(outcome).toMatchObject({ accepted: false, reason: "invalid", refusals: [{ field, reason: "invalid" }] });
  });

  it("to a bad value is refused, not invalid, in a field that may not be set", () => {
    expect(as("s-003").checkEdit("objects", bell(), { acquired_on: "soon" })).toMatchObject({ reason: "refused" });
  });

  it("does not tell whether a guess at a hidden value was right", () => {
    const stored = bell();
    const outcomes = [stored["insured_value"], "1.00"].map((insured_value) =>
      as("s-003").checkEdit("objects", stored, { insured_value }),
    );
    expect(outcomes[0]).toEqual(outcomes[1]);
    expect(outcomes[0]).toMatchObject({ accepted: false });
  });

  it("answers alike for what is hidden and what is not there", () => {
    const hidden = record("loans", "l-001");
    const session = as("s-004");
    expect(session.checkEdit("loans", hidden, { fee: "1.00" })).toEqual(
      session.checkEdit("loans", undefined, { fee: "1.00" }),
    );
    expect(session.checkDelete("loans", hidden)).toEqual(session.checkDelete("loans", undefined));
    expect(session.decide("edit", "loans", hidden)).toEqual({ permitted: false, reason: "not-found" });
  });

  it("says of a key that is taken no more than that it cannot be used", () => {
    const values = { accession: "BM-SH-0003", title: "Bell", department: "ships" };
    expect(as("s-005").checkCreate("objects", values)).toMatchObject({
      reason: "invalid",
      refusals: [{ field: "accession", reason: "key-taken", message: "This key cannot be used." }],
    });
  });
});

describe("names that mean something to JavaScript are ordinary names", () => {
  it("as table, field, role, record and choice", () => {
    const name = "constructor";
    const portier = compile({
      portier: 1,
      people: { table: "toString", roles: "valueOf" },
      roles: { [name]: {} },
      tables: {
        toString: { key: "id", fields: { id: "text", valueOf: { choice: [name], optional: true } } },
        [name]: {
          key: "id",
          fields: { id: "text", hasOwnProperty: { type: "text", optional: true } },
          rules: { one: { to: name, where: "hasOwnProperty = 'a'", permit: { view: ["hasOwnProperty"] } } },
        },
      },
    });
    const holder = portier.session({ person: { id: "p", valueOf: name } });
    const other = portier.session({ person: { id: "p" } });
    expect(holder.mask(name, { id: "o", hasOwnProperty: "a" })).toEqual({ id: "o", hasOwnProperty: "a" });
    expect(holder.mask(name, { id: "o" })).toBeUndefined();
    expect(other.mask(name, { id: "o", hasOwnProperty: "a" })).toBeUndefined();
  });
});
