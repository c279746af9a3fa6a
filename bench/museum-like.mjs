// A table of 15 fields with the museum's kind of rules, as a document and as somebody would write it by hand.

export const person = {
  id: "s-003",
  name: "Odalys Quint",
  post: "keeper",
  department: "ships",
  site: "north",
  manager: "s-002",
  active: true,
};

const fields = {
  accession: "text",
  title: "text",
  label: { type: "text", optional: true },
  department: { reference: "departments" },
  keeper: { reference: "staff", optional: true },
  status: { choice: ["registered", "on_display", "on_loan", "withdrawn"] },
  material: { type: "text", optional: true },
  made_in: { type: "text", optional: true },
  acquired_on: { type: "date", optional: true },
  donor: { type: "text", optional: true },
  shelf: { type: "text", sensitive: true, optional: true },
  insured_value: { type: "decimal", sensitive: true, optional: true },
  condition_note: { type: "text", optional: true },
  weight: { type: "integer", optional: true },
  fragile: { type: "boolean", optional: true },
};

export function documentOf() {
  return {
    portier: 1,
    people: { table: "staff", name: "name", manager: "manager", active: "active", roles: "post" },
    roles: { assistant: {}, keeper: { include: ["assistant"] }, conservator: {}, registrar: {}, director: {} },
    tables: {
      departments: { key: "id", fields: { id: "text", name: "text" } },
      staff: {
        key: "id",
        owner: "id",
        fields: {
          id: "text",
          name: "text",
          post: { choice: ["assistant", "keeper", "conservator", "registrar", "director"] },
          department: { reference: "departments", optional: true },
          site: { choice: ["north", "south"], optional: true },
          manager: { reference: "staff", optional: true },
          active: "boolean",
        },
      },
      objects: {
        key: "accession",
        owner: "keeper",
        fields,
        rules: {
          public: {
            to: "anyone",
            where: "status = 'on_display'",
            permit: { view: ["title", "label", "material", "made_in"] },
          },
          "look-up": { to: "assistant", permit: { list: ["title", "department", "keeper"] } },
          "open-own": { to: "assistant", where: "department = me.department", permit: { view: "all" } },
          "first-label": {
            to: "assistant",
            where: "department = me.department and status = 'registered'",
            permit: { edit: ["label"] },
          },
          work: {
            to: "keeper",
            where: "department = me.department",
            permit: { view: ["shelf"], edit: ["label", "status", "condition_note", "shelf"] },
          },
          condition: { to: "conservator", permit: { view: ["title", "condition_note"], edit: ["condition_note"] } },
          books: {
            to: "registrar",
            permit: { view: ["all", "shelf", "insured_value"], edit: ["all", "shelf", "insured_value"] },
          },
          value: { to: ["registrar", "director"], reserve: { view: ["insured_value"], edit: ["insured_value"] } },
        },
      },
    },
  };
}

export function makeRecords(count) {
  const departments = ["ships", "instruments", "textiles"];
  const states = ["registered", "on_display", "on_loan", "withdrawn"];
  return Array.from({ length: count }, (_, index) => ({
    accession: `BM-${String(index).padStart(6, "0")}`,
    title: `Object ${index}`,
    label: index % 3 === 0 ? null : `Label ${index}`,
    department: departments[index % 3],
    keeper: `s-${String(index % 24).padStart(3, "0")}`,
    status: states[(index >> 2) % 4],
    material: "oak",
    made_in: "Brackwater",
    acquired_on: `19${String(10 + (index % 90)).padStart(2, "0")}-06-15`,
    donor: index % 5 === 0 ? null : "bequest",
    shelf: `N${index % 6}-${index % 40}`,
    insured_value: `${index}.50`,
    condition_note: "sound",
    weight: index,
    fragile: index % 2 === 0,
  }));
}

const publicFields = new Set(["title", "label", "material", "made_in"]);
const listedFields = new Set(["title", "department", "keeper"]);
const workFields = new Set(["label", "status", "condition_note", "shelf"]);
const allFields = new Set(Object.keys(fields).filter((name) => name !== "shelf" && name !== "insured_value"));
const isOneOf = (role, ...roles) => roles.includes(role);

/** The same rules as a careful developer would write them without a library. */
export const handWritten = {
  mayView(who, row, field) {
    const role = who.post;
    if (field === "insured_value" && !isOneOf(role, "registrar", "director")) return false;
    if (publicFields.has(field) && row.status === "on_display") return true;
    const own = row.department !== null && row.department === who.department;
    if (own && isOneOf(role, "assistant", "keeper") && allFields.has(field)) return true;
    if (own && role === "keeper" && field === "shelf") return true;
    if (role === "conservator" && (field === "title" || field === "condition_note")) return true;
    return role === "registrar";
  },
  mayList(who, row, field) {
    if (isOneOf(who.post, "assistant", "keeper") && listedFields.has(field)) return true;
    return handWritten.mayView(who, row, field);
  },
  mayEdit(who, row, field) {
    const role = who.post;
    if (field === "insured_value" && !isOneOf(role, "registrar", "director")) return false;
    const own = row.department !== null && row.department === who.department;
    if (own && isOneOf(role, "assistant", "keeper") && field === "label" && row.status === "registered") return true;
    if (own && role === "keeper" && workFields.has(field)) return true;
    if (role === "conservator" && field === "condition_note") return true;
    return role === "registrar" && field !== "accession" && field !== "keeper";
  },
  mask(who, row) {
    let seen;
    for (const field of Object.keys(fields)) {
      if (field !== "accession" && !handWritten.mayList(who, row, field)) continue;
      seen ??= {};
      seen[field] = row[field];
    }
    return seen !== undefined && Object.keys(seen).length > 1 ? seen : undefined;
  },
  maskAll(who, rows) {
    const out = [];
    const shelf = who.post === "keeper";
    const registrar = who.post === "registrar";
    const looksUp = isOneOf(who.post, "assistant", "keeper");
    for (const row of rows) {
      const own = looksUp && row.department !== null && row.department === who.department;
      const open = row.status === "on_display";
      if (registrar) out.push({ ...row });
      else if (own) {
        const seen = { ...row };
        delete seen.insured_value;
        if (!shelf) delete seen.shelf;
        out.push(seen);
      } else if (looksUp || open) {
        const seen = { accession: row.accession };
        if (looksUp || open) seen.title = row.title;
        if (open) seen.label = row.label;
        if (looksUp) seen.department = row.department;
        if (looksUp) seen.keeper = row.keeper;
        if (open) seen.material = row.material;
        if (open) seen.made_in = row.made_in;
        out.push(seen);
      }
    }
    return out;
  },
  acceptEdit(who, row, values) {
    const refused = [];
    const changes = {};
    for (const field of Object.keys(values)) {
      if (!(field in fields)) refused.push(field);
      else if (values[field] === row[field]) continue;
      else if (!handWritten.mayEdit(who, row, field)) refused.push(field);
      else changes[field] = values[field];
    }
    return refused.length > 0
      ? { accepted: false, refused }
      : { accepted: true, record: { ...row, ...changes }, changes };
  },
};
