import { compile, define, not, type RowOf } from "portier";
import { type Connection, createDatabase } from "portier/database";
import { describe, expect, expectTypeOf, it } from "vitest";
import { declared, museumDeclaration } from "./declared-museum.js";

const portier = compile(museumDeclaration);
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
    type Staff = RowOf<typeof declared extends { rules(rules: never): unknown } ? Shape : never, "shows">;
    expectTypeOf<Staff>().toEqualTypeOf<{ id: number; title: string; opens_on: string }>();
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

/** A declaration's own type, for what is made of it. */
interface Shape {
  tables: {
    shows: { key: "id"; fields: { id: "integer"; title: "text"; opens_on: "date" } };
  };
}

// Each of these is a mistake, and TypeScript must say so at its place; none of it runs.
function mistakes(): void {
  // In conditions: what could never compare is not written
  declared.rules({
    objects: {
      compared: {
        to: "anyone",
        where: ({ record, me, request, today }) => {
          // @ts-expect-error a date against a text
          record.due.is(record.title);
          // @ts-expect-error a date against what is no day
          record.due.isAbove("tomorrow");
          // @ts-expect-error an instant against a day
          record.seen.isAbove(today);
          // @ts-expect-error a decimal has no patterns
          record.worth.startsWith("1");
          // @ts-expect-error a number against a text
          record.size.is(record.title);
          // @ts-expect-error a person against a number
          record.keeper.is(record.size);
          // @ts-expect-error a record with a number for its key against a person
          record.show.is(me);
          // @ts-expect-error a text of the request against a number
          request.site.is(record.size);
          // @ts-expect-error a choice has no such value
          record.status.is("gone");
          record.due.isAtLeast("2027-01-31").and(record.seen.isBelow("2027-01-31T09:00:00Z"));
          record.status.is(record.title).and(record.worth.isAbove(record.size)).and(record.keeper.is(me));
          return record.show.isOneOf([1, record.size]);
        },
        permit: { view: "all" },
      },
      // @ts-expect-error a permit is for somebody
      unnamed: { permit: { view: "all" } },
      // @ts-expect-error a reserve is for somebody
      kept: { reserve: { edit: ["title"] } },
      closed: { deny: { edit: ["title"] } },
    },
  });

  // Whose session it is, and what a change gives
  interface Stored {
    id: string;
    title: string;
  }
  const stored: Stored = { id: "o-1", title: "Bell" };
  const database = createDatabase(portier, {} as Connection);
  // @ts-expect-error a person's key is a text here
  portier.session({ person: 1 });
  // @ts-expect-error a person's key is a text here
  database.as(1);
  // @ts-expect-error a person's key is a text here, also of who acts for them
  database.as({ person: "s-1", actedBy: 2 });
  // A record may be of an interface
  portier.session({ person: stored, source: portier.source({ objects: [stored] }) }).may("view", "objects", stored);
  session.checkEdit("objects", stored, { title: "Bell", keeper: null });
  // @ts-expect-error there is no such field
  session.checkEdit("objects", stored, { titel: "Bell" });
  // @ts-expect-error the title is a text
  session.checkEdit("objects", stored, { title: 1 });
  // @ts-expect-error the title is not optional
  session.checkCreate("objects", { title: null });
  // @ts-expect-error a choice has no such value
  session.checkBulkEdit("objects", [stored], { status: "gone" });
  // @ts-expect-error what is shown through a reference is not given
  session.checkImport("objects", [{ show_title: "Ships" }]);
  // @ts-expect-error there is no such field
  database.as("s-1").edit("objects", "o-1", { titel: "Bell" });
  // @ts-expect-error a key that is a number
  database.as("s-1").create("shows", { id: "one" });
  database.as("s-1").import("objects", [{ id: "o-1", title: "Bell" }]);
  const key = "id";
  const fields = { id: "text" } as const;

  // In the shape
  define({
    tables: {
      a: {
        // @ts-expect-error the key is not a field
        key: "idd",
        fields,
      },
    },
  });
  define({
    tables: {
      a: {
        // @ts-expect-error one of the key's fields is none
        key: ["id", "x"],
        fields,
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        // @ts-expect-error the owner is not a field
        owner: "keeper",
        fields,
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          // @ts-expect-error there is no such type
          id: "txt",
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            // @ts-expect-error there is no such type, in the long form
            type: "int",
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            // @ts-expect-error there is no such table to refer to
            reference: "bs",
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            reference: "a",
            // @ts-expect-error the reference is made by a field that is none
            by: ["x"],
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            list: {
              // @ts-expect-error there is no such table to refer to, in a list
              reference: "bs",
            },
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            // @ts-expect-error there is no such type of elements
            list: "txt",
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            lookup: {
              // @ts-expect-error the lookup goes through a field that is none
              through: "x",
              field: "id",
            },
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          p: { reference: "a" },
          b: {
            lookup: {
              through: "p",
              // @ts-expect-error the lookup shows a field that is none
              field: "titel",
            },
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            type: "text",
            // @ts-expect-error the flag is misspelled
            optionl: true,
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        fields: {
          id: "text",
          b: {
            type: "text",
            // @ts-expect-error a flag is true or false
            sensitive: "yes",
          },
        },
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        grid: {
          // @ts-expect-error the position is not a field
          position: "rw",
        },
        fields,
      },
    },
  });
  define({
    tables: {
      a: {
        key,
        grid: {
          position: "id",
          // @ts-expect-error a column is not a field
          columns: ["x"],
        },
        fields,
      },
    },
  });
  define({
    people: {
      // @ts-expect-error there is no such people table
      table: "staf",
    },
    tables: { staff: { key, fields } },
  });
  define({
    people: {
      table: "staff",
      // @ts-expect-error the manager is not a field of the people
      manager: "boss",
    },
    tables: { staff: { key, fields } },
  });
  define({
    people: {
      table: "staff",
      // @ts-expect-error roles come from a field that is none
      roles: "post",
    },
    tables: { staff: { key, fields } },
  });
  const settings = { table: "staff", person: "id", on: "id", field: "id", level: "id" } as const;
  define({
    people: { table: "staff", settings: { ...settings, settableBy: ["keeper"], adds: { staff: { view: "id" } } } },
    roles: { keeper: {} },
    tables: { staff: { key, fields } },
  });
  define({
    people: {
      table: "staff",
      // @ts-expect-error the settings' table has no such field
      settings: { ...settings, level: "lvel" },
    },
    tables: { staff: { key, fields } },
  });
  define({
    people: {
      table: "staff",
      settings: {
        ...settings,
        // @ts-expect-error nobody by that name may set anything
        settableBy: "keper",
      },
    },
    roles: { keeper: {} },
    tables: { staff: { key, fields } },
  });
  define({
    people: {
      table: "staff",
      settings: {
        ...settings,
        adds: {
          staff: {
            // @ts-expect-error there is no such field to be opened
            view: ["salry"],
          },
        },
      },
    },
    tables: { staff: { key, fields } },
  });
  define({
    roles: {
      a: {
        // @ts-expect-error a role that is none is included
        include: ["b"],
      },
    },
    tables: {},
  });
  define({
    roles: {
      a: {
        // @ts-expect-error a role that is none is excluded
        exclusive: "b",
      },
    },
    tables: {},
  });
  define({
    roles: {
      a: { scope: "shows", assignableBy: ["b", "g", "a of this"] },
      b: {
        // @ts-expect-error a scoped role gives on its own record alone
        assignableBy: "a",
      },
    },
    groups: { g: { members: "b" } },
    tables: { shows: { key, fields } },
  });
  define({
    roles: {
      a: {
        // @ts-expect-error the scope is not a table
        scope: "show",
      },
    },
    tables: { shows: { key, fields } },
  });
  define({
    roles: { a: {} },
    groups: {
      g: {
        // @ts-expect-error a member is not a role and no group
        members: ["b"],
      },
    },
    tables: {},
  });
  define({
    roles: { a: {} },
    groups: {
      g: {
        members: ["a"],
        // @ts-expect-error the group brings a role that is none
        roles: ["b"],
      },
    },
    tables: {},
  });
  define({
    request: {
      // @ts-expect-error there is no such type of a request value
      site: "txt",
    },
    tables: {},
  });

  // In the rules
  declared.rules({
    // @ts-expect-error there is no such table
    object: {},
  });
  declared.rules({
    objects: {
      r: {
        // @ts-expect-error there is no such role
        to: "keper",
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        // @ts-expect-error a role differs by a capital
        to: ["Keeper"],
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        // @ts-expect-error a scoped role is used without a record
        to: "editor",
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        // @ts-expect-error a role that is held globally is used on a record
        to: "keeper of show",
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        // @ts-expect-error the record is named by a field that is none
        to: "editor of shw",
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        // @ts-expect-error the exception is not a role
        except: "hed",
        permit: { view: "all" },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          view: [
            // @ts-expect-error there is no such field
            "titel",
          ],
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          view: [
            "all",
            // @ts-expect-error a field that is none is taken out
            "-titel",
          ],
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          view: [
            // @ts-expect-error no field has the tag
            "tag pubic",
          ],
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          // @ts-expect-error there is no such action
          veiw: "all",
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          // @ts-expect-error the table has no such action of its own
          approve: "yes",
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          // @ts-expect-error view speaks of fields
          view: "yes",
        },
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: {
          // @ts-expect-error delete speaks of records
          delete: "all",
        },
      },
    },
  });
  // @ts-expect-error a rule has one effect
  declared.rules({ objects: { r: { to: "anyone", permit: { view: "all" }, deny: { edit: "all" } } } });
  // @ts-expect-error a rule has an effect
  declared.rules({ objects: { r: { to: "anyone" } } });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: { view: "all" },
        // @ts-expect-error the key is misspelled
        note_: "x",
      },
    },
  });
  declared.rules({
    objects: {
      r: {
        to: "anyone",
        permit: { view: "all" },
        // @ts-expect-error the note is a text
        note: 7,
      },
    },
  });
  declared.rules({
    plan: {
      r: {
        deny: {
          // @ts-expect-error there is no such range
          edit: {
            cells: "headng",
          },
        },
      },
    },
  });

  // In conditions
  declared.rules({
    // @ts-expect-error there is no such field
    objects: { r: { to: "anyone", where: ({ record }) => record.titel.is("a"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error a choice has no such value
    objects: { r: { to: "anyone", where: ({ record }) => record.status.is("show"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error a number is compared with a text
    objects: { r: { to: "anyone", where: ({ record }) => record.size.is("3"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error a choice knows no order
    objects: { r: { to: "anyone", where: ({ record }) => record.status.isBelow("shown"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error a number has no beginning
    objects: { r: { to: "anyone", where: ({ record }) => record.size.startsWith("3"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error null is asked for, not compared with
    objects: { r: { to: "anyone", where: ({ record }) => record.due.is(null), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error a path leads through a field that is not a reference
    objects: { r: { to: "anyone", where: ({ record }) => record.title.name.is("a"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error the record that a reference leads to has no such field
    objects: { r: { to: "anyone", where: ({ record }) => record.show.name.is("a"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error the person has no such field
    objects: { r: { to: "anyone", where: ({ me }) => me.departement.is("a"), permit: { view: "all" } } },
  });
  declared.rules({
    // @ts-expect-error the request has no such value
    objects: { r: { to: "anyone", where: ({ request }) => request.sight.is("a"), permit: { view: "all" } } },
  });
  // @ts-expect-error a condition is a condition
  declared.rules({ objects: { r: { to: "anyone", where: ({ record }) => record.title, permit: { view: "all" } } } });

  // In calls
  // @ts-expect-error there is no such table
  session.may("view", "object", row);
  // @ts-expect-error there is no such field
  session.may("view", "objects", row, "titel");
  // @ts-expect-error there is no such action
  session.may("veiw", "objects", row);
  // @ts-expect-error the table has no such action of its own
  session.may("photograph", "staff", row);
  // @ts-expect-error what is masked has no such field
  session.mask("objects", row)?.titel;
  // @ts-expect-error there is no such table to change
  session.checkEdit("object", row, {});
  // @ts-expect-error there is no such field to choose for
  session.choices("objects", "titel");
}

void mistakes;
