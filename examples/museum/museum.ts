// The museum's document in TypeScript: the same as museum.portier.yaml, with every name checked where it is written.
// Conditions are functions here where that reads well, and text where it does not.
import { define } from "portier";

export const museum = define({
  timeZone: "Europe/Lisbon",
  people: {
    table: "staff",
    name: "name",
    manager: "manager",
    active: "active",
    roles: ["post", { table: "exhibition_team", person: "member", role: "part", on: "exhibition" }],
    assignments: true,
  },
  roles: {
    volunteer: { assignableBy: ["head", "director"], note: "Shows visitors around." },
    assistant: { assignableBy: ["head", "director"] },
    keeper: { include: ["assistant"], assignableBy: "director", note: "Answers for the objects of a department." },
    head: { include: ["keeper"], assignableBy: "director", note: "Leads a department." },
    conservator: { assignableBy: "director" },
    registrar: { assignableBy: "director", note: "Knows what everything is worth and where it is." },
    treasurer: { assignableBy: "director", exclusive: "director" },
    director: { assignableBy: "director", minHolders: 1 },
    editor: {
      scope: "exhibitions",
      assignableBy: ["director", "lead of this"],
      note: "Writes the captions of one exhibition.",
    },
    lead: {
      scope: "exhibitions",
      include: ["editor"],
      assignableBy: "director",
      note: "Answers for one exhibition.",
    },
  },
  groups: {
    collections: { members: ["keeper", "registrar", "conservator"] },
    north: { members: { where: "site = 'north'" } },
    south: { members: { where: "site = 'south'" } },
    "ships-line": {
      members: { below: "s-002" },
      note: "Bram Solheim and everybody below.",
      ignore: { "person-in-rule": "The line is his by appointment." },
    },
  },
  screens: {
    visit: { needs: ["exhibitions.view", "objects.view.title"], note: "What is on display." },
    objects: {
      needs: "objects.list.title",
      to: ["assistant", "conservator", "registrar", "director"],
      home: ["assistant", "registrar"],
    },
    "object-card": { in: "objects", needs: "objects.view.material" },
    "hand-over": { in: "object-card", needs: "objects.edit.keeper", note: "An object goes to another keeper." },
    "new-object": { in: "objects", needs: "objects.create" },
    loans: { needs: "loans.view", to: ["keeper", "registrar", "treasurer", "director"] },
    "loan-request": { in: "loans", needs: "loans.create" },
    "loan-decisions": { in: "loans", needs: "loans.edit.status", to: "registrar" },
    treatments: { needs: "treatments.list", to: ["keeper", "conservator", "director"], home: "conservator" },
    exhibits: { needs: "exhibits.edit.caption" },
    plan: { needs: "plan.view", home: "treasurer" },
    museum: { needs: "staff.list.name" },
    administration: { needs: "staff.edit.post", to: "director", home: "director" },
  },
  tables: {
    departments: {
      key: "id",
      fields: { id: "text", name: "text", head: { reference: "staff", optional: true } },
      rules: {
        "departments-are-known": {
          to: ["assistant", "conservator", "registrar", "treasurer", "director"],
          permit: { view: ["name", "head"] },
        },
        "director-shapes-the-museum": { to: "director", permit: { create: "all", edit: "all", delete: "yes" } },
      },
    },
    staff: {
      key: "id",
      owner: "id",
      fields: {
        id: "text",
        name: "text",
        post: {
          choice: ["volunteer", "assistant", "keeper", "head", "conservator", "registrar", "treasurer", "director"],
        },
        department: { reference: "departments", optional: true },
        site: { choice: ["north", "south"], optional: true },
        manager: { reference: "staff", optional: true },
        active: { type: "boolean", default: true },
        phone: { type: "text", sensitive: true, optional: true },
        salary: { type: "decimal", sensitive: true, optional: true },
      },
      rules: {
        "colleagues-are-known": {
          to: ["assistant", "conservator", "registrar", "treasurer", "director"],
          permit: { list: ["name", "post", "department", "site"] },
        },
        "volunteers-know-their-building": {
          to: "volunteer",
          where: "site = me.site",
          permit: { list: ["name", "department"] },
        },
        "own-card": { to: "owner", permit: { view: ["all", "phone", "salary"] } },
        "phone-goes-up-the-line": { to: "above owner", permit: { view: ["name", "phone"] } },
        "treasurer-pays": { to: "treasurer", permit: { view: ["name", "salary"] } },
        "director-leads": {
          to: "director",
          permit: { view: "all", create: ["all", "id", "phone"], edit: ["all", "phone"] },
        },
        "salaries-are-set-elsewhere": {
          deny: { create: ["salary"], edit: ["salary"] },
          note: "Salaries are kept in the treasurer's own books.",
        },
      },
    },
    objects: {
      key: "accession",
      owner: "keeper",
      fields: {
        accession: { type: "text", label: "Accession number" },
        title: "text",
        label: { type: "text", optional: true, label: "Gallery label" },
        department: { reference: "departments" },
        keeper: { reference: "staff", optional: true },
        status: { choice: ["registered", "on_display", "on_loan", "withdrawn"], default: "registered" },
        material: { type: "text", optional: true },
        made_in: { type: "text", optional: true },
        acquired_on: { type: "date", optional: true },
        donor: { type: "text", optional: true },
        shelf: { type: "text", sensitive: true, optional: true },
        insured_value: { type: "decimal", sensitive: true, optional: true },
        condition_note: { type: "text", optional: true, label: "Condition" },
      },
      actions: ["photograph"],
      rules: {
        "what-is-on-display-is-public": {
          to: "anyone",
          where: "status = 'on_display'",
          permit: { view: ["title", "label", "material", "made_in"] },
        },
        "assistants-look-everything-up": { to: "assistant", permit: { list: ["title", "department", "keeper"] } },
        "assistants-open-their-department": {
          to: "assistant",
          where: "department = me.department",
          permit: { view: "all", photograph: "yes" },
        },
        "assistants-write-the-first-label": {
          to: "assistant",
          where: "department = me.department and status = 'registered'",
          permit: { edit: ["label"] },
        },
        "keepers-work-in-their-department": {
          to: "keeper",
          where: "department = me.department",
          permit: { view: ["shelf"], edit: ["label", "status", "condition_note", "shelf"] },
        },
        "keepers-hand-over": {
          to: "keeper",
          where: "owner = me",
          becomes: "keeper.department = department and keeper.post in ('keeper', 'head') and keeper.active = true",
          permit: { edit: ["keeper"] },
          note: "An object is handed to another keeper of its department.",
        },
        "conservators-note-the-condition": {
          to: "conservator",
          permit: { view: ["title", "condition_note"], edit: ["condition_note"] },
        },
        "registrar-keeps-the-books": {
          to: "registrar",
          permit: {
            view: ["all", "shelf", "insured_value"],
            create: ["all", "keeper", "shelf", "insured_value"],
            edit: ["all", "keeper", "shelf", "insured_value"],
            export: ["all", "shelf", "insured_value"],
            import: ["all", "keeper", "shelf", "insured_value"],
            bulk: ["status", "shelf", "condition_note"],
          },
        },
        "director-sees-to-everything": {
          to: "director",
          permit: {
            view: ["all", "shelf", "insured_value"],
            create: ["all", "keeper", "shelf", "insured_value"],
            edit: ["all", "keeper", "shelf", "insured_value"],
            delete: "yes",
          },
        },
        "what-is-on-loan-is-not-here": {
          where: "status = 'on_loan'",
          confirm: { edit: ["shelf"], bulk: ["shelf"], photograph: "yes" },
          note: "The object is on loan. Is it really back?",
        },
        "value-stays-in-the-office": {
          to: ["registrar", "director"],
          reserve: { view: ["insured_value"], create: ["insured_value"], edit: ["insured_value"] },
          note: "What an object is worth is known to the registrar and the director only.",
        },
        "withdrawal-is-the-directors": {
          to: "director",
          becomes: "status = 'withdrawn'",
          reserve: { create: ["status"], edit: ["status"] },
          note: "An object leaves the collection only by the director's hand.",
        },
      },
    },
    loans: {
      key: "id",
      owner: "requested_by",
      fields: {
        id: "text",
        object: { reference: "objects" },
        borrower: "text",
        requested_by: { reference: "staff" },
        status: { choice: ["draft", "requested", "approved", "out", "returned", "refused"], default: "draft" },
        starts_on: "date",
        ends_on: "date",
        fee: { type: "decimal", sensitive: true, optional: true },
        courier: { type: "text", sensitive: true, optional: true },
      },
      rules: {
        "requesters-see-their-loans": { to: "owner", permit: { view: ["all", "fee", "courier"] } },
        "requests-start-as-drafts": {
          to: ["keeper", "registrar"],
          where: "status = 'draft'",
          permit: { create: ["all", "fee", "courier"] },
        },
        "requesters-work-on-drafts": {
          to: "owner",
          where: "status = 'draft'",
          becomes: "status in ('draft', 'requested')",
          permit: { edit: ["object", "borrower", "status", "starts_on", "ends_on", "fee", "courier"] },
          note: "A loan can be changed while it is a draft.",
        },
        "requesters-drop-drafts": { to: "owner", where: "status = 'draft'", permit: { delete: "yes" } },
        "heads-follow-the-loans-of-their-people": { to: "above owner", permit: { view: "all" } },
        "treasurer-sees-fees": { to: "treasurer", permit: { view: ["all", "fee"] } },
        "registrar-sees-all-loans": { to: "registrar", permit: { view: ["all", "fee", "courier"] } },
        "registrar-decides": {
          to: "registrar",
          except: "owner",
          where: "status = 'requested'",
          becomes: "status in ('approved', 'refused')",
          permit: { edit: ["status"] },
        },
        "registrar-sends-and-receives": {
          to: "registrar",
          where: "status in ('approved', 'out')",
          becomes: "status in ('out', 'returned')",
          permit: { edit: ["status"] },
        },
        "director-may-do-all": {
          to: "director",
          permit: {
            view: ["all", "fee", "courier"],
            create: ["all", "fee", "courier"],
            edit: ["all", "fee", "courier"],
            delete: "yes",
          },
        },
        "fees-are-confidential": { to: ["owner", "registrar", "treasurer", "director"], reserve: { view: ["fee"] } },
        "couriers-are-confidential": { to: ["owner", "registrar", "director"], reserve: { view: ["courier"] } },
      },
    },
    treatments: {
      key: "id",
      owner: "conservator",
      fields: {
        id: "text",
        object: { reference: "objects" },
        conservator: { reference: "staff" },
        started_on: "date",
        finished_on: { type: "date", optional: true },
        notes: { type: "text", optional: true },
        cost: { type: "decimal", sensitive: true, optional: true },
      },
      actions: ["finish"],
      rules: {
        "conservators-read-all-treatments": { to: "conservator", permit: { view: "all", create: ["all", "cost"] } },
        "conservators-work-on-their-own": {
          to: "owner",
          permit: { view: ["cost"], edit: ["finished_on", "notes", "cost"] },
        },
        "conservators-finish-what-is-begun": {
          to: "owner",
          where: "finished_on is null and started_on <= today",
          permit: { finish: "yes" },
        },
        "keepers-follow-their-objects": {
          to: "keeper",
          where: "object.department = me.department",
          permit: { view: ["object", "started_on", "finished_on", "notes"] },
        },
        "ships-line-follows-ships": {
          to: "ships-line",
          where: "object.department = 'ships'",
          permit: { list: ["object", "started_on", "finished_on"] },
          ignore: { "record-in-rule": "Departments are few; their keys are their names." },
        },
        "heads-follow-the-treatments-of-their-people": { to: "above owner", permit: { view: "all" } },
        "director-reads-treatments": { to: "director", permit: { view: ["all", "cost"] } },
      },
    },
    exhibitions: {
      key: "id",
      fields: {
        id: "text",
        title: "text",
        opens_on: "date",
        closes_on: "date",
        site: { choice: ["north", "south"] },
        lead: { reference: "staff" },
      },
      rules: {
        "what-has-opened-is-public": {
          to: "anyone",
          where: "opens_on <= today",
          permit: { view: ["title", "opens_on", "closes_on", "site"] },
        },
        "collections-know-what-comes": { to: "collections", permit: { view: "all" } },
        "north-knows-its-building": { to: "north", where: "site = 'north'", permit: { list: ["title", "opens_on"] } },
        "south-knows-its-building": { to: "south", where: "site = 'south'", permit: { list: ["title", "opens_on"] } },
        "teams-see-their-exhibition": { to: "editor of this", permit: { view: "all" } },
        "leads-set-the-dates": {
          to: "lead of this",
          where: "opens_on > today",
          permit: { edit: ["title", "opens_on", "closes_on"] },
        },
        "director-plans": { to: "director", permit: { view: "all", create: "all", edit: "all", delete: "yes" } },
        "what-is-shown-is-not-dropped": {
          where: "exists (exhibits where exhibition = this)",
          deny: { delete: "yes" },
          note: "There are objects in this exhibition.",
        },
      },
    },
    exhibition_team: {
      label: "Exhibition teams",
      key: ["exhibition", "member"],
      fields: {
        exhibition: { reference: "exhibitions" },
        member: { reference: "staff" },
        part: { choice: ["editor", "lead"] },
      },
      rules: {
        "who-knows-the-exhibition-knows-its-team": {
          to: "signed-in",
          where: "may view exhibition",
          permit: { list: ["member", "part"] },
        },
        "director-makes-teams": { to: "director", permit: { view: "all", create: "all", edit: "all", delete: "yes" } },
      },
    },
    exhibits: {
      key: "id",
      fields: {
        id: "text",
        exhibition: { reference: "exhibitions" },
        object: { reference: "objects" },
        object_title: { lookup: { through: "object", field: "title" } },
        caption: { type: "text", optional: true },
        sequence: "integer",
      },
      rules: {
        "what-is-open-is-public": {
          to: "anyone",
          where: "may view exhibition",
          permit: { view: ["exhibition", "object_title", "caption", "sequence"] },
        },
        "teams-write-their-captions": {
          to: "editor of exhibition",
          permit: { view: "all", edit: ["caption", "sequence"] },
        },
        "leads-choose-the-objects": {
          to: "lead of exhibition",
          permit: { create: "all", edit: ["object"], delete: "yes" },
        },
        "registrar-sees-what-is-shown": { to: ["registrar", "director"], permit: { view: "all" } },
      },
    },
    partners: {
      key: "id",
      fields: {
        id: "text",
        name: "text",
        country: "text",
        contact: { type: "text", sensitive: true, tags: ["personal"], optional: true },
      },
      rules: {
        "partners-are-known": {
          to: ["assistant", "conservator", "registrar", "treasurer", "director"],
          permit: { view: ["name", "country"] },
        },
        "registrar-keeps-the-address-book": {
          to: ["registrar", "director"],
          permit: { view: ["tag personal"], create: ["all", "contact"], edit: ["all", "contact"], delete: "yes" },
        },
      },
    },
    plan: {
      label: "Budget plan",
      note: "The budget of 2027. Row 1 is the heading, column F is worked out.",
      key: "id",
      grid: { position: "row", columns: ["item", "q1", "q2", "q3", "q4", "total", "remark"], protections: true },
      ranges: { heading: "A1:G1", amounts: "B2:E", totals: "F2:F" },
      fields: {
        id: "text",
        row: "integer",
        item: "text",
        q1: { type: "decimal", optional: true },
        q2: { type: "decimal", optional: true },
        q3: { type: "decimal", optional: true },
        q4: { type: "decimal", optional: true },
        total: { type: "decimal", optional: true },
        remark: { type: "text", optional: true },
      },
      rules: {
        "museum-reads-the-plan": {
          to: ["head", "registrar", "treasurer", "director"],
          permit: { view: "all", export: "all" },
        },
        "treasurer-plans": {
          to: "treasurer",
          permit: { edit: { cells: ["amounts"] }, protect: { cells: ["amounts"] } },
        },
        "director-decides": { to: "director", permit: { edit: "all", create: "all", delete: "yes", protect: "all" } },
        "heading-is-fixed": {
          to: "director",
          reserve: { edit: { cells: ["heading"] } },
          note: "The heading is the director's.",
        },
        "totals-are-worked-out": {
          confirm: { edit: { cells: ["totals"] } },
          note: "Totals are worked out from the quarters. Change one only to correct it.",
        },
        "first-quarter-is-over": {
          from: "2027-04-01",
          deny: { edit: { cells: "B2:B" } },
          note: "This quarter is over.",
        },
        "second-quarter-is-over": {
          from: "2027-07-01",
          deny: { edit: { cells: "C2:C" } },
          note: "This quarter is over.",
        },
        "third-quarter-is-over": {
          from: "2027-10-01",
          deny: { edit: { cells: "D2:D" } },
          note: "This quarter is over.",
        },
        "fourth-quarter-is-over": {
          from: "2028-01-01",
          deny: { edit: { cells: "E2:E" } },
          note: "This quarter is over.",
        },
      },
    },
  },
}).rules({
  departments: {
    "departments-are-known": {
      to: ["assistant", "conservator", "registrar", "treasurer", "director"],
      permit: { view: ["name", "head"] },
    },
    "director-shapes-the-museum": { to: "director", permit: { create: "all", edit: "all", delete: "yes" } },
  },
  staff: {
    "colleagues-are-known": {
      to: ["assistant", "conservator", "registrar", "treasurer", "director"],
      permit: { list: ["name", "post", "department", "site"] },
    },
    "volunteers-know-their-building": {
      to: "volunteer",
      where: ({ record, me }) => record.site.is(me.site),
      permit: { list: ["name", "department"] },
    },
    "own-card": { to: "owner", permit: { view: ["all", "phone", "salary"] } },
    "phone-goes-up-the-line": { to: "above owner", permit: { view: ["name", "phone"] } },
    "treasurer-pays": { to: "treasurer", permit: { view: ["name", "salary"] } },
    "director-leads": {
      to: "director",
      permit: { view: "all", create: ["all", "id", "phone"], edit: ["all", "phone"] },
    },
    "salaries-are-set-elsewhere": {
      deny: { create: ["salary"], edit: ["salary"] },
      note: "Salaries are kept in the treasurer's own books.",
    },
  },
  objects: {
    "what-is-on-display-is-public": {
      to: "anyone",
      where: ({ record }) => record.status.is("on_display"),
      permit: { view: ["title", "label", "material", "made_in"] },
    },
    "assistants-look-everything-up": { to: "assistant", permit: { list: ["title", "department", "keeper"] } },
    "assistants-open-their-department": {
      to: "assistant",
      where: ({ record, me }) => record.department.is(me.department),
      permit: { view: "all", photograph: "yes" },
    },
    "assistants-write-the-first-label": {
      to: "assistant",
      where: ({ record, me }) => record.department.is(me.department).and(record.status.is("registered")),
      permit: { edit: ["label"] },
    },
    "keepers-work-in-their-department": {
      to: "keeper",
      where: ({ record, me }) => record.department.is(me.department),
      permit: { view: ["shelf"], edit: ["label", "status", "condition_note", "shelf"] },
    },
    "keepers-hand-over": {
      to: "keeper",
      where: "owner = me",
      becomes: "keeper.department = department and keeper.post in ('keeper', 'head') and keeper.active = true",
      permit: { edit: ["keeper"] },
      note: "An object is handed to another keeper of its department.",
    },
    "conservators-note-the-condition": {
      to: "conservator",
      permit: { view: ["title", "condition_note"], edit: ["condition_note"] },
    },
    "registrar-keeps-the-books": {
      to: "registrar",
      permit: {
        view: ["all", "shelf", "insured_value"],
        create: ["all", "keeper", "shelf", "insured_value"],
        edit: ["all", "keeper", "shelf", "insured_value"],
        export: ["all", "shelf", "insured_value"],
        import: ["all", "keeper", "shelf", "insured_value"],
        bulk: ["status", "shelf", "condition_note"],
      },
    },
    "director-sees-to-everything": {
      to: "director",
      permit: {
        view: ["all", "shelf", "insured_value"],
        create: ["all", "keeper", "shelf", "insured_value"],
        edit: ["all", "keeper", "shelf", "insured_value"],
        delete: "yes",
      },
    },
    "what-is-on-loan-is-not-here": {
      where: "status = 'on_loan'",
      confirm: { edit: ["shelf"], bulk: ["shelf"], photograph: "yes" },
      note: "The object is on loan. Is it really back?",
    },
    "value-stays-in-the-office": {
      to: ["registrar", "director"],
      reserve: { view: ["insured_value"], create: ["insured_value"], edit: ["insured_value"] },
      note: "What an object is worth is known to the registrar and the director only.",
    },
    "withdrawal-is-the-directors": {
      to: "director",
      becomes: ({ record }) => record.status.is("withdrawn"),
      reserve: { create: ["status"], edit: ["status"] },
      note: "An object leaves the collection only by the director's hand.",
    },
  },
  loans: {
    "requesters-see-their-loans": { to: "owner", permit: { view: ["all", "fee", "courier"] } },
    "requests-start-as-drafts": {
      to: ["keeper", "registrar"],
      where: ({ record }) => record.status.is("draft"),
      permit: { create: ["all", "fee", "courier"] },
    },
    "requesters-work-on-drafts": {
      to: "owner",
      where: ({ record }) => record.status.is("draft"),
      becomes: ({ record }) => record.status.isOneOf(["draft", "requested"]),
      permit: { edit: ["object", "borrower", "status", "starts_on", "ends_on", "fee", "courier"] },
      note: "A loan can be changed while it is a draft.",
    },
    "requesters-drop-drafts": {
      to: "owner",
      where: ({ record }) => record.status.is("draft"),
      permit: { delete: "yes" },
    },
    "heads-follow-the-loans-of-their-people": { to: "above owner", permit: { view: "all" } },
    "treasurer-sees-fees": { to: "treasurer", permit: { view: ["all", "fee"] } },
    "registrar-sees-all-loans": { to: "registrar", permit: { view: ["all", "fee", "courier"] } },
    "registrar-decides": {
      to: "registrar",
      except: "owner",
      where: ({ record }) => record.status.is("requested"),
      becomes: ({ record }) => record.status.isOneOf(["approved", "refused"]),
      permit: { edit: ["status"] },
    },
    "registrar-sends-and-receives": {
      to: "registrar",
      where: "status in ('approved', 'out')",
      becomes: "status in ('out', 'returned')",
      permit: { edit: ["status"] },
    },
    "director-may-do-all": {
      to: "director",
      permit: {
        view: ["all", "fee", "courier"],
        create: ["all", "fee", "courier"],
        edit: ["all", "fee", "courier"],
        delete: "yes",
      },
    },
    "fees-are-confidential": { to: ["owner", "registrar", "treasurer", "director"], reserve: { view: ["fee"] } },
    "couriers-are-confidential": { to: ["owner", "registrar", "director"], reserve: { view: ["courier"] } },
  },
  treatments: {
    "conservators-read-all-treatments": { to: "conservator", permit: { view: "all", create: ["all", "cost"] } },
    "conservators-work-on-their-own": {
      to: "owner",
      permit: { view: ["cost"], edit: ["finished_on", "notes", "cost"] },
    },
    "conservators-finish-what-is-begun": {
      to: "owner",
      where: ({ record, today }) => record.finished_on.isNull().and(record.started_on.isAtMost(today)),
      permit: { finish: "yes" },
    },
    "keepers-follow-their-objects": {
      to: "keeper",
      where: ({ record, me }) => record.object.department.is(me.department),
      permit: { view: ["object", "started_on", "finished_on", "notes"] },
    },
    "ships-line-follows-ships": {
      to: "ships-line",
      where: ({ record }) => record.object.department.is("ships"),
      permit: { list: ["object", "started_on", "finished_on"] },
      ignore: { "record-in-rule": "Departments are few; their keys are their names." },
    },
    "heads-follow-the-treatments-of-their-people": { to: "above owner", permit: { view: "all" } },
    "director-reads-treatments": { to: "director", permit: { view: ["all", "cost"] } },
  },
  exhibitions: {
    "what-has-opened-is-public": {
      to: "anyone",
      where: ({ record, today }) => record.opens_on.isAtMost(today),
      permit: { view: ["title", "opens_on", "closes_on", "site"] },
    },
    "collections-know-what-comes": { to: "collections", permit: { view: "all" } },
    "north-knows-its-building": { to: "north", where: "site = 'north'", permit: { list: ["title", "opens_on"] } },
    "south-knows-its-building": { to: "south", where: "site = 'south'", permit: { list: ["title", "opens_on"] } },
    "teams-see-their-exhibition": { to: "editor of this", permit: { view: "all" } },
    "leads-set-the-dates": {
      to: "lead of this",
      where: "opens_on > today",
      permit: { edit: ["title", "opens_on", "closes_on"] },
    },
    "director-plans": { to: "director", permit: { view: "all", create: "all", edit: "all", delete: "yes" } },
    "what-is-shown-is-not-dropped": {
      where: "exists (exhibits where exhibition = this)",
      deny: { delete: "yes" },
      note: "There are objects in this exhibition.",
    },
  },
  exhibition_team: {
    "who-knows-the-exhibition-knows-its-team": {
      to: "signed-in",
      where: ({ record, may }) => may("view", record.exhibition),
      permit: { list: ["member", "part"] },
    },
    "director-makes-teams": { to: "director", permit: { view: "all", create: "all", edit: "all", delete: "yes" } },
  },
  exhibits: {
    "what-is-open-is-public": {
      to: "anyone",
      where: ({ record, may }) => may("view", record.exhibition),
      permit: { view: ["exhibition", "object_title", "caption", "sequence"] },
    },
    "teams-write-their-captions": {
      to: "editor of exhibition",
      permit: { view: "all", edit: ["caption", "sequence"] },
    },
    "leads-choose-the-objects": {
      to: "lead of exhibition",
      permit: { create: "all", edit: ["object"], delete: "yes" },
    },
    "registrar-sees-what-is-shown": { to: ["registrar", "director"], permit: { view: "all" } },
  },
  partners: {
    "partners-are-known": {
      to: ["assistant", "conservator", "registrar", "treasurer", "director"],
      permit: { view: ["name", "country"] },
    },
    "registrar-keeps-the-address-book": {
      to: ["registrar", "director"],
      permit: { view: ["tag personal"], create: ["all", "contact"], edit: ["all", "contact"], delete: "yes" },
    },
  },
  plan: {
    "museum-reads-the-plan": {
      to: ["head", "registrar", "treasurer", "director"],
      permit: { view: "all", export: "all" },
    },
    "treasurer-plans": { to: "treasurer", permit: { edit: { cells: ["amounts"] }, protect: { cells: ["amounts"] } } },
    "director-decides": { to: "director", permit: { edit: "all", create: "all", delete: "yes", protect: "all" } },
    "heading-is-fixed": {
      to: "director",
      reserve: { edit: { cells: ["heading"] } },
      note: "The heading is the director's.",
    },
    "totals-are-worked-out": {
      confirm: { edit: { cells: ["totals"] } },
      note: "Totals are worked out from the quarters. Change one only to correct it.",
    },
    "first-quarter-is-over": { from: "2027-04-01", deny: { edit: { cells: "B2:B" } }, note: "This quarter is over." },
    "second-quarter-is-over": { from: "2027-07-01", deny: { edit: { cells: "C2:C" } }, note: "This quarter is over." },
    "third-quarter-is-over": { from: "2027-10-01", deny: { edit: { cells: "D2:D" } }, note: "This quarter is over." },
    "fourth-quarter-is-over": { from: "2028-01-01", deny: { edit: { cells: "E2:E" } }, note: "This quarter is over." },
  },
});
