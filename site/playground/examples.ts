import type { Written } from "./play.js";

/** A need, and rules that meet it. */
export interface Example extends Written {
  readonly need: string;
}

const staff = `id,name,post,department
s-003,Odalys Quint,keeper,ships
s-004,Wren Takeda,keeper,textiles
s-005,Kofi Lindqvist,registrar,ships`;

const people = `portier: 1
people: { table: staff, name: name, roles: post }
roles: { keeper: {}, registrar: {} }
tables:
  staff:
    key: id
    fields:
      id: text
      name: text
      post: { choice: [keeper, registrar] }
      department: text
    rules:
      colleagues-know-each-other:
        to: [keeper, registrar]
        permit: { view: [name, post, department] }
`;

const objects = `accession,title,department,status,insured_value
BM-SH-0001,Ship's bell,ships,on_display,12000
BM-SH-0002,Sextant,ships,registered,3400
BM-TX-0001,Signal flags,textiles,registered,800`;

const objectsTable = `  objects:
    key: accession
    fields:
      accession: text
      title: text
      department: text
      status: { choice: [registered, on_display, withdrawn] }
      insured_value: { type: decimal, sensitive: true, optional: true }
    rules:
`;

export const examples: readonly Example[] = [
  {
    need: "limit people to the records of their department",
    rules: `${people}${objectsTable}      keepers-work-in-their-department:
        to: keeper
        where: department = me.department
        permit: { view: all, edit: [title, status] }
      registrar-keeps-the-books:
        to: registrar
        permit: { view: [all, insured_value], edit: [all, insured_value] }
`,
    data: { staff, objects },
  },
  {
    need: "hide a column, and show the public a part",
    rules: `${people}${objectsTable}      what-is-on-display-is-public:
        to: anyone
        where: status = 'on_display'
        permit: { view: [title] }
      keepers-see-all-objects:
        to: keeper
        permit: { view: all } # not what is sensitive
      value-stays-in-the-office:
        to: registrar
        permit: { view: [all, insured_value], edit: [insured_value] }
`,
    data: { staff, objects },
  },
  {
    need: "let people change what they own, until it is approved",
    rules: `${people}  loans:
    key: id
    owner: requested_by
    fields:
      id: text
      title: text
      requested_by: { reference: staff }
      status: { choice: [draft, approved] }
    rules:
      requesters-write-drafts:
        to: owner
        where: status = 'draft'
        permit: { view: all, edit: [title] }
      requesters-read-their-own:
        to: owner
        permit: { view: all }
      registrar-approves:
        to: registrar
        permit: { view: all, edit: [status] }
      nobody-approves-their-own:
        to: owner
        becomes: status = 'approved'
        deny: { edit: [status] }
        note: Somebody else approves what you requested.
`,
    data: {
      staff,
      loans: `id,title,requested_by,status
l-1,Sextant to the harbour school,s-003,draft
l-2,Flags to the town hall,s-004,approved
l-3,Bell to the festival,s-005,draft`,
    },
  },
  {
    need: "share what is in an exhibition with those who work on it",
    rules: `portier: 1
people:
  table: staff
  name: name
  roles: [post, { table: team, person: member, role: part, on: exhibition }]
roles: { keeper: {}, registrar: {}, editor: { scope: exhibitions } }
tables:
  staff:
    key: id
    fields: { id: text, name: text, post: { choice: [keeper, registrar] }, department: text }
    rules:
      colleagues-know-each-other: { to: [keeper, registrar], permit: { view: [name, post, department] } }
  exhibitions:
    key: id
    fields: { id: text, title: text }
    rules:
      everybody-reads-titles: { to: anyone, permit: { view: all } }
  team:
    key: [exhibition, member]
    fields: { exhibition: { reference: exhibitions }, member: { reference: staff }, part: { choice: [editor] } }
    rules:
      registrar-reads-the-teams: { to: registrar, permit: { view: all } }
  captions:
    key: id
    fields: { id: text, exhibition: { reference: exhibitions }, text: text }
    rules:
      editors-write-captions:
        to: editor of exhibition
        permit: { view: all, edit: [text] }
`,
    data: {
      staff,
      exhibitions: "id,title\ne-1,Bells and buoys\ne-2,Threads",
      team: "exhibition,member,part\ne-1,s-003,editor\ne-2,s-004,editor",
      captions: "id,exhibition,text\nc-1,e-1,Cast in the yard.\nc-2,e-2,Woven by hand.",
    },
  },
];
