import { compile, not, type RecordOf, type TypesOf } from "portier";
import { describe, expect, expectTypeOf, it } from "vitest";
import { inEditor } from "../support/editor.js";
import { typechecked } from "../support/typechecked.js";
import { declared, museumDeclaration } from "./declared-museum.js";

interface Museum extends TypesOf<typeof declared> {}

const portier = compile<Museum>(museumDeclaration);
const session = portier.session();
const row = { id: "o-1", title: "Bell", status: "shown", keeper: null, size: 1 };

describe("what TypeScript knows", () => {
  it("of a masked record are the declared fields, each perhaps hidden", () => {
    const seen = session.mask("objects", row);
    expect(seen).toEqual({ id: "o-1", title: "Bell" });
    if (seen === undefined) return;
    expectTypeOf(seen.title).toEqualTypeOf<string | undefined>();
    expectTypeOf(seen.status).toEqualTypeOf<"stored" | "shown" | undefined>();
    expectTypeOf(seen.keeper).toEqualTypeOf<string | null | undefined>();
    expectTypeOf(seen.helpers).toEqualTypeOf<readonly string[] | null | undefined>();
    expectTypeOf(seen.show).toEqualTypeOf<number | null | undefined>();
    expectTypeOf(seen.show_title).toEqualTypeOf<string | null | undefined>();
    expectTypeOf(seen.worth).toEqualTypeOf<string | null | undefined>();
    expectTypeOf(seen.size).toEqualTypeOf<number | undefined>();
    expectTypeOf(seen.extra).toEqualTypeOf<unknown>();
    expectTypeOf(session.maskAll("plan", [])).toEqualTypeOf<
      { id?: string; row?: number; item?: string; q1?: string | null }[]
    >();
  });

  it("of a record is a plain object type", () => {
    expectTypeOf<RecordOf<Museum, "shows">>().toEqualTypeOf<{ id: number; title: string; opens_on: string }>();
  });

  it("of a condition is put into the text of the format", () => {
    const rules = museumDeclaration.tables["objects"] as { rules: Record<string, { where?: unknown }> };
    expect(rules.rules["shown-is-public"]?.where).toBe("status = 'shown'");
    expect(rules.rules["keepers-work"]?.where).toBe("keeper.site = me.site or (size >= 3 and due is null)");
    const all = declared.rules({
      objects: {
        one: {
          to: "anyone",
          where: ({ record, me, request, today, may }) =>
            not(record.due.isBelow(today).or(record.due.isAbove("2027-01-31")))
              .and(record.seen.isAtMost(request.now).and(record.worth.isOneOf(["1.50", "2"])))
              .and(record.title.isLike("a%").or(record.title.startsWith("it's")))
              .and(record.helpers.includes(me).and(me.tongues.includes("pt")))
              .and(may("view", record.show).and(record.show_title.isNotNull()))
              .and(record.show.isNot(7).and(record.keeper.is(me.boss)).and(request.site.is("north"))),
          permit: { view: "all" },
        },
      },
    });
    const written = (all.tables["objects"] as typeof rules).rules["one"]?.where;
    expect(written).toContain("not (due < today or due > date '2027-01-31')");
    expect(written).toContain("seen <= request.now and worth in (1.5, 2)");
    expect(written).toContain("me in helpers and 'pt' in me.tongues");
    expect(written).toContain("may view show and show_title is not null");
    expect(() => compile(all)).not.toThrow();
  });
});

describe("editors show", () => {
  const { hovers, completions } = inEditor(`
import { compile, define, type TypesOf } from "portier";
import { type Connection, createDatabase } from "portier/database";
import { declared, museumDeclaration } from "./declared-museum.js";
interface Museum extends TypesOf<typeof declared> {}
const «portier = compile<Museum>(museumDeclaration);
const «session = portier.«session({ person: "s-1", request: { «site: "north" } });
session.«may("view", "objects");
const «seen = session.mask("shows", {});
createDatabase(portier, {} as Connection).«as("s-1").«edit("objects", "o-1", { «title: "Bell" });
session.may("view", "objects", {}, "«");
session.checkEdit("shows", {}, { « });
declared.rules({ shows: { r: { «to: "anyone", «where: ({ «record }) => record.«opens_on.«is("2026-11-24"), permit: { «view: "all" }, «note: "" } } });
define({
  «timeZone: "UTC",
  «people: { table: "a", «manager: "above" },
  roles: { r: { «include: [] } },
  groups: { g: { «members: "r" } },
  tables: { a: { key: "id", «label: "A", grid: { «position: "no" }, fields: { id: "text", no: "integer", above: { reference: "a", «optional: true } } } },
});
`);

  it.each([
    "const portier: Portier<Museum>",
    "const session: Session<Museum>",
    "(method) Portier<Museum>.session(options?: SessionOptions<string, ",
    "(property) site?: string | null",
    '(method) Session<Museum>.may<"objects">(action: ActionOf<Museum, "objects">, table: "objects", record?: object, ',
    "const seen: Partial<{ id: number; title: string; opens_on: string; }> | undefined",
    "(method) Database<Museum>.as(who: IdentityOrKey<string, ",
    '(method) UserDatabase<Museum>.edit<"objects">(table: "objects", key: string, values: {',
    "(property) title?: string",
    "(parameter) record: { readonly id: ",
    "(property) opens_on: OrderedOperand<",
  ])("%s", (text) => {
    expect(
      hovers.some((hover) => hover.startsWith(text)),
      hovers.join("\n"),
    ).toBe(true);
  });

  it("names, and never the whole document, but for what a condition is made in", () => {
    expect(hovers.filter((hover) => hover.includes('timeZone: "'))).toEqual([
      expect.stringMatching(/^\(property\) where\?: string \| boolean/),
      expect.stringMatching(/^\(property\) timeZone: "UTC" /),
    ]);
    for (const name of ["to: ", "view?: "]) {
      expect(hovers).toContainEqual(expect.stringMatching(`^\\(property\\) ${name.replace("?", "\\?")}.*"owner"`));
    }
  });

  it("the fields of the table where one is wanted", () => {
    const [wanted, given] = completions.slice(9, 11);
    expect(wanted).toEqual(expect.arrayContaining(["title", "status", "show_title"]));
    expect(given?.slice(0, 3)).toEqual(["id", "opens_on", "title"]);
  });

  it.each([
    "timeZone // IANA name",
    "people // The table of users",
    "manager // The reference to the person above",
    "include // Roles that come with this one",
    "members // Any of: a role, a group",
    "label // What people call the table",
    "optional // Whether it may be null",
    "position // The integer field with the row's number",
    "note // What is protected and why",
  ])("of a key: %s", (text) => {
    const [key = "", says = ""] = text.split(" // ");
    expect(hovers.some((hover) => hover.startsWith(`(property) ${key}`) && hover.includes(`// ${says}`))).toBe(true);
  });
});

/** Programs with their mistake marked: where the compiler must object, and nowhere else. Without a mark it must not object. */
const programs = {
  "the shape": `
the key is no field: define({ tables: { a: { «key»: "idd", fields } } });
one of the key's fields is none: define({ tables: { a: { key: ["id", «"x"»], fields } } });
the owner is no field: define({ tables: { a: { key, «owner»: "keeper", fields } } });
no such type: define({ tables: { a: { key, fields: { «id»: "txt" } } } });
no such type, in the long form: define({ tables: { a: { key, fields: { id: "text", b: { «type»: "int" } } } } });
no such table to refer to: define({ tables: { a: { key, fields: { id: "text", b: { «reference»: "bs" } } } } });
a reference by no field: define({ tables: { a: { key, fields: { id: "text", b: { reference: "a", by: [«"x"»] } } } } });
no such table, in a list: define({ tables: { a: { key, fields: { id: "text", b: { list: { «reference»: "bs" } } } } } });
no such type of elements: define({ tables: { a: { key, fields: { id: "text", b: { «list»: "txt" } } } } });
a lookup through no field: define({ tables: { a: { key, fields: { id: "text", b: { lookup: { «through»: "x", field: "id" } } } } } });
a lookup of no field: define({ tables: { a: { key, fields: { id: "text", p: { reference: "a" }, b: { lookup: { through: "p", «field»: "titel" } } } } } });
a misspelled flag: define({ tables: { a: { key, fields: { id: "text", b: { type: "text", «optionl»: true } } } } });
a flag is true or false: define({ tables: { a: { key, fields: { id: "text", b: { type: "text", «sensitive»: "yes" } } } } });
the position is no field: define({ tables: { a: { key, grid: { «position»: "rw" }, fields } } });
a column is no field: define({ tables: { a: { key, grid: { position: "id", columns: [«"x"»] }, fields } } });
no such table of people: define({ people: { «table»: "staf" }, tables: { staff: { key, fields } } });
the manager is no field: define({ people: { table: "staff", «manager»: "boss" }, tables: { staff: { key, fields } } });
roles from no field: define({ people: { table: "staff", «roles»: "post" }, tables: { staff: { key, fields } } });
settings: define({ people: { table: "staff", settings: { ...settings, settableBy: ["keeper"], adds: { staff: { view: "id" } } } }, roles: { keeper: {} }, tables: { staff: { key, fields } } });
settings of no field: define({ people: { table: "staff", settings: { ...settings, «level»: "lvel" } }, tables: { staff: { key, fields } } });
settable by no role: define({ people: { table: "staff", settings: { ...settings, «settableBy»: "keper" } }, roles: { keeper: {} }, tables: { staff: { key, fields } } });
no such field to add: define({ people: { table: "staff", settings: { ...settings, adds: { staff: { view: [«"salry"»] } } } }, tables: { staff: { key, fields } } });
no such role to include: define({ roles: { a: { include: [«"b"»] } }, tables: {} });
no such role to exclude: define({ roles: { a: { «exclusive»: "b" } }, tables: {} });
assignable on the same record: define({ roles: { a: { scope: "shows", assignableBy: ["b", "g", "a of this"] }, b: {} }, groups: { g: { members: "b" } }, tables: { shows: { key, fields } } });
a scoped role assigns on its own record alone: define({ roles: { a: { scope: "shows" }, b: { «assignableBy»: "a" } }, tables: { shows: { key, fields } } });
the scope is no table: define({ roles: { a: { «scope»: "show" } }, tables: { shows: { key, fields } } });
a member is no role and no group: define({ roles: { a: {} }, groups: { g: { members: [«"b"»] } }, tables: {} });
the group brings no role: define({ roles: { a: {} }, groups: { g: { members: ["a"], roles: [«"b"»] } }, tables: {} });
no such type of a request value: define({ request: { «site»: "txt" }, tables: {} });`,

  "the rules": `
no such table: declared.rules({ «object»: {} });
no such role: declared.rules({ objects: { r: { «to»: "keper", permit } } });
a role differs by a capital: declared.rules({ objects: { r: { to: [«"Keeper"»], permit } } });
a scoped role without a record: declared.rules({ objects: { r: { «to»: "editor", permit } } });
a global role on a record: declared.rules({ objects: { r: { «to»: "keeper of show", permit } } });
a role on no field: declared.rules({ objects: { r: { «to»: "editor of shw", permit } } });
the exception is no role: declared.rules({ objects: { r: { to: "anyone", «except»: "hed", permit } } });
no such field: declared.rules({ objects: { r: { to: "anyone", permit: { view: [«"titel"»] } } } });
no such field to take out: declared.rules({ objects: { r: { to: "anyone", permit: { view: ["all", «"-titel"»] } } } });
no field has the tag: declared.rules({ objects: { r: { to: "anyone", permit: { view: [«"tag pubic"»] } } } });
no such action: declared.rules({ objects: { r: { to: "anyone", permit: { «veiw»: "all" } } } });
no custom action of this table: declared.rules({ objects: { r: { to: "anyone", permit: { «approve»: "yes" } } } });
view is of fields: declared.rules({ objects: { r: { to: "anyone", permit: { «view»: "yes" } } } });
delete is of records: declared.rules({ objects: { r: { to: "anyone", permit: { «delete»: "all" } } } });
a rule has one effect: declared.rules({ objects: { r: { to: "anyone", permit, deny: { «edit»: "all" } } } });
a rule has an effect: declared.rules({ objects: { «r»: { to: "anyone" } } });
a permit is for somebody: declared.rules({ objects: { «r»: { permit } } });
a reserve is for somebody: declared.rules({ objects: { «r»: { reserve: { edit: ["title"] } } } });
a deny is for everybody, unless it says: declared.rules({ objects: { r: { deny: { edit: ["title"] } } } });
a misspelled key: declared.rules({ objects: { r: { to: "anyone", permit, «note_»: "x" } } });
a note is a text: declared.rules({ objects: { r: { to: "anyone", permit, «note»: 7 } } });
no such range: declared.rules({ plan: { r: { deny: { «edit»: { cells: "headng" } } } } });`,

  conditions: `
no such field: where(({ record }) => record.«titel».is("a"));
no such value of a choice: where(({ record }) => record.status.is(«"show"»));
a number against a text: where(({ record }) => record.size.is(«"3"»));
a choice has no order: where(({ record }) => record.status.«isBelow»("shown"));
a number has no beginning: where(({ record }) => record.size.«startsWith»("3"));
a decimal has no patterns: where(({ record }) => record.worth.«startsWith»("1"));
null is asked for, not compared with: where(({ record }) => record.due.is(«null»));
a path through no reference: where(({ record }) => record.title.«name».is("a"));
a path to no field: where(({ record }) => record.show.«name».is("a"));
no such field of the person: where(({ me }) => me.«departement».is("a"));
no such request value: where(({ request }) => request.«sight».is("a"));
a value is no condition: where(«({ record }) => record.title»);
a date against a text: where(({ record }) => record.due.is(«record.title»));
a date against what is no day: where(({ record }) => record.due.isAbove(«"tomorrow"»));
an instant against a day: where(({ record, today }) => record.seen.isAbove(«today»));
a number against another's text: where(({ record }) => record.size.is(«record.title»));
a person against a number: where(({ record }) => record.keeper.is(«record.size»));
another table's record against a person: where(({ record, me }) => record.show.is(«me»));
a request value against a number: where(({ record, request }) => request.site.is(«record.size»));
days and instants: where(({ record }) => record.due.isAtLeast("2027-01-31").and(record.seen.isBelow("2027-01-31T09:00:00Z")));
what compares: where(({ record, me }) => record.status.is(record.title).and(record.worth.isAbove(record.size)).and(record.keeper.is(me)));
keys and fields: where(({ record }) => record.show.isOneOf([1, record.size]));`,

  calls: `
no such table: session.may("view", «"object"», row);
no such field: session.may("view", "objects", row, «"titel"»);
no such action: session.may(«"veiw"», "objects", row);
no custom action of this table: session.may(«"photograph"», "staff", row);
nothing masked by this name: session.mask("objects", row)?.«titel»;
no such table to change: session.checkEdit(«"object"», row, {});
no such field to choose for: session.choices("objects", «"titel"»);
a person's key is a text here: portier.session({ «person»: 1 });
and of the database: database.as(«1»);
and of who acts for them: database.as({ person: "s-1", «actedBy»: 2 });
a request value is of its type: portier.session({ request: { «site»: 1 } });
no such request value: portier.session({ request: { «sight»: "north" } });
a record may be of an interface: portier.session({ person: stored, source: portier.source({ objects: [stored] }) }).may("view", "objects", stored);
values: session.checkEdit("objects", stored, { title: "Bell", keeper: null });
no such field to edit: session.checkEdit("objects", stored, { «titel»: "Bell" });
the title is a text: session.checkEdit("objects", stored, { «title»: 1 });
the title is not optional: session.checkCreate("objects", { «title»: null });
no such value to give: session.checkBulkEdit("objects", [stored], { «status»: "gone" });
a lookup is not given: session.checkImport("objects", [{ «show_title»: "Ships" }]);
no such field in the database: database.as("s-1").edit("objects", "o-1", { «titel»: "Bell" });
a key that is a number: database.as("s-1").create("shows", { «id»: "one" });
imported values: database.as("s-1").import("objects", [{ id: "o-1", title: "Bell" }]);`,
};

const prelude = `
import { compile, define } from "portier";
import { type Connection, createDatabase } from "portier/database";
import { declared, museumDeclaration } from "../../define/declared-museum.js";
const key = "id";
const fields = { id: "text" } as const;
const settings = { table: "staff", person: "id", on: "id", field: "id", level: "id" } as const;
const permit = { view: "all" } as const;
const portier = compile(museumDeclaration);
const session = portier.session();
const database = createDatabase(portier, {} as Connection);
interface Stored { id: string; title: string }
const stored: Stored = { id: "o-1", title: "Bell" };
const row = { id: "o-1", title: "Bell", status: "shown", keeper: null, size: 1 } as const;
type Where = NonNullable<NonNullable<NonNullable<Parameters<typeof declared.rules>[0]["objects"]>[string]>["where"]>;
const where = (condition: Where) => declared.rules({ objects: { r: { to: "anyone", where: condition, permit } } });
`;

interface Case {
  readonly says: string;
  readonly code: string;
  /** The line of its program, and the columns of the mark; both from 1. */
  readonly line: number;
  readonly from: number;
  readonly to: number;
}

function casesOf(program: string): Case[] {
  return program.split("\n").flatMap((written, index) => {
    const [, says = "", marked = ""] = /^(.*?): (.*)$/.exec(written) ?? [];
    if (marked === "") return [];
    const [before = "", mark] = marked.split(/[«»]/);
    const from = before.length + 1;
    const line = prelude.split("\n").length + index;
    return [{ says, code: marked.replace(/[«»]/g, ""), line, from, to: mark === undefined ? 0 : from + mark.length }];
  });
}

describe("what is wrong is an error at its place", () => {
  const groups = Object.entries(programs).map(([of, program]) => ({ of, cases: casesOf(program) }));
  const errors = typechecked(
    groups.map(({ cases }) => `${prelude}\n${cases.map(({ code }) => code).join("\n")}\n`),
    { skipLibCheck: true, exactOptionalPropertyTypes: true },
  );
  const found = [...errors.matchAll(/use-(\d+)\.ts\((\d+),(\d+)\): (.*)/g)].map(([, group, line, column, text]) => ({
    ...{ group: Number(group), line: Number(line), column: Number(column), text },
  }));

  describe.each(groups.map((group, index) => ({ ...group, index })))("in $of", ({ cases, index }) => {
    it.each(cases)("$says", ({ line, from, to }) => {
      const here = found.filter((error) => error.group === index && error.line === line);
      if (to === 0) expect(here).toEqual([]);
      else
        expect(
          here.map(({ column }) => column >= from && column < to),
          JSON.stringify(here),
        ).toEqual([true]);
    });
  });
});
