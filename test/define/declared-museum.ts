import { define } from "portier";

/** a small declared museum for the tests of its types. */
export const declared = define({
  timeZone: "Europe/Lisbon",
  people: { table: "staff", name: "name", manager: "boss", active: "active", roles: "post" },
  request: { site: "text" },
  roles: { keeper: {}, head: { include: ["keeper"] }, editor: { scope: "shows" } },
  groups: { north: { members: ["head", { below: "s-1" }], where: "site = 'north'", roles: ["keeper"] } },
  tables: {
    staff: {
      key: "id",
      owner: "id",
      fields: {
        id: "text",
        name: "text",
        post: { choice: ["keeper", "head"] },
        site: { choice: ["north", "south"], optional: true },
        boss: { reference: "staff", optional: true },
        active: "boolean",
        tongues: { list: "text", optional: true },
      },
    },
    shows: { key: "id", fields: { id: "integer", title: "text", opens_on: "date" } },
    team: { key: ["show", "member"], fields: { show: { reference: "shows" }, member: { reference: "staff" } } },
    objects: {
      key: "id",
      owner: "keeper",
      actions: ["photograph"],
      fields: {
        id: "text",
        title: { type: "text", tags: ["public"] },
        status: { choice: ["stored", "shown"], default: "stored" },
        keeper: { reference: "staff", optional: true },
        helpers: { list: { reference: "staff" }, optional: true },
        show: { reference: "shows", optional: true },
        show_title: { lookup: { through: "show", field: "title" } },
        worth: { type: "decimal", sensitive: true, optional: true },
        size: "integer",
        due: { type: "date", optional: true },
        seen: { type: "timestamp", optional: true },
        extra: { type: "json", optional: true },
      },
    },
    plan: {
      key: "id",
      grid: { position: "row", columns: ["item", "q1"] },
      ranges: { heading: "A1:B1" },
      fields: { id: "text", row: "integer", item: "text", q1: { type: "decimal", optional: true } },
    },
  },
});

export const museumDeclaration = declared.rules({
  objects: {
    "shown-is-public": {
      to: "anyone",
      where: ({ record }) => record.status.is("shown"),
      permit: { view: ["title", "tag public"] },
    },
    "keepers-work": {
      to: ["keeper", "owner", "above owner", "editor of show", "north", "person s-9"],
      except: "above keeper",
      where: ({ record, me }) => record.keeper.site.is(me.site).or(record.size.isAtLeast(3).and(record.due.isNull())),
      permit: { view: ["all", "-due"], edit: "title..status", photograph: "yes", create: ["all", "keeper"] },
    },
    "worth-is-kept": { to: "head", reserve: { view: ["worth"] }, note: "Ask the head." },
  },
  plan: { "heading-is-fixed": { deny: { edit: { cells: ["heading", "B2:B"], except: ["B3"] } } } },
});
