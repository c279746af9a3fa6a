// Documents of different sizes with the museum's kind of rules, and for each the same rules as a careful developer would
// write them by hand: one `if` a rule, equal conditions worked out once, and of equal safety. Values are held to their
// types, an unknown permits nothing, a record that is not known is not found, and a change is judged before and after.
// The hand-written code is written by this generator, so that it can grow with the document; it is what a person would type.

const states = ["registered", "on_display", "on_loan", "withdrawn"];
const departments = ["ships", "instruments", "textiles"];
const roles = ["assistant", "keeper", "conservator", "registrar", "director"];

/** Of each field its declaration, a value, and how hand-written code tells that a value fits. */
const museumFields = {
  accession: ["text", (i) => `BM-${String(i).padStart(6, "0")}`],
  title: ["text", (i) => `Object ${i}`],
  label: [{ type: "text", optional: true }, (i) => (i % 3 === 0 ? null : `Label ${i}`)],
  department: [{ reference: "departments" }, (i) => departments[i % 3]],
  keeper: [{ reference: "staff", optional: true }, (i) => `s-${String(i % 24).padStart(3, "0")}`],
  status: [{ choice: states }, (i) => states[(i >> 2) % 4]],
  material: [{ type: "text", optional: true }, () => "oak"],
  made_in: [{ type: "text", optional: true }, () => "Brackwater"],
  acquired_on: [{ type: "date", optional: true }, (i) => `19${String(10 + (i % 90)).padStart(2, "0")}-06-15`],
  donor: [{ type: "text", optional: true }, (i) => (i % 5 === 0 ? null : "bequest")],
  shelf: [{ type: "text", sensitive: true, optional: true }, (i) => `N${i % 6}-${i % 40}`],
  insured_value: [{ type: "decimal", sensitive: true, optional: true }, (i) => `${i}.50`],
  condition_note: [{ type: "text", optional: true }, () => "sound"],
  weight: [{ type: "integer", optional: true }, (i) => i],
  fragile: [{ type: "boolean", optional: true }, (i) => i % 2 === 0],
};
const furtherKinds = [
  [{ type: "text", optional: true }, (i) => `Note ${i}`],
  [{ type: "integer", optional: true }, (i) => i],
  [{ choice: states, optional: true }, (i) => states[i % 4]],
];

/** The museum's own rules: who, where, what they permit. `own` is the person's department, a state is the record's. */
const museumRules = [
  { to: "anyone", where: { status: "on_display" }, view: ["title", "label", "material", "made_in"] },
  { to: "assistant", where: {}, list: ["title", "department", "keeper"] },
  { to: "assistant", where: { own: true }, view: "all" },
  { to: "assistant", where: { own: true, status: "registered" }, edit: ["label"] },
  { to: "keeper", where: { own: true }, view: ["shelf"], edit: ["label", "status", "condition_note", "shelf"] },
  { to: "conservator", where: {}, view: ["title", "condition_note"], edit: ["condition_note"] },
  { to: "registrar", where: {}, view: ["all", "shelf", "insured_value"], edit: ["all", "shelf", "insured_value"] },
];

export const person = {
  id: "s-003",
  name: "Odalys Quint",
  post: "keeper",
  department: "ships",
  site: "north",
  manager: "s-002",
  active: true,
};

/**
 * A shape: how many fields the table has (three or more), how many rules (the museum's own are 7 and one reserve), whether
 * keepers own their records.
 */
export function makeShape({ fields: count = 15, rules: ruleCount = 8, hasOwner = false } = {}) {
  const names = [...new Set(["accession", "status", "label", ...Object.keys(museumFields)])].slice(0, count);
  const chosen = Object.entries(museumFields).filter(([name]) => names.includes(name));
  for (let i = chosen.length; i < count; i++) chosen.push([`further_${i}`, furtherKinds[i % furtherKinds.length]]);
  const fields = Object.fromEntries(chosen.map(([name, [declared]]) => [name, declared]));
  const rules = rulesOf(Object.keys(fields), ruleCount, hasOwner);
  const makeRecords = (length) =>
    Array.from({ length }, (_, i) => Object.fromEntries(chosen.map(([name, [, value]]) => [name, value(i)])));
  return { fields, document: documentOf(fields, rules), byHand: byHand(fields, rules, hasOwner), makeRecords };
}

function rulesOf(fields, count, hasOwner) {
  const rules = museumRules.slice(0, Math.max(count - 1, 1));
  for (let i = rules.length; i < count - 1; i++) {
    const where = [{ own: true }, { status: states[i % 4] }, { own: true, status: states[(i >> 1) % 4] }][i % 3];
    const view = [0, 1, 2].map((step) => fields[(i * 3 + step) % fields.length]);
    const edit = [fields[1 + ((i * 5) % (fields.length - 1))]];
    rules.push({ to: roles[i % roles.length], where, view, edit });
  }
  if (hasOwner) rules.push({ to: "owner", where: {}, view: "all", edit: ["condition_note"] });
  const known = (list) => (Array.isArray(list) ? list.filter((name) => name === "all" || fields.includes(name)) : list);
  return rules
    .map((rule) => {
      const actions = ["list", "view", "edit"].map((action) => [action, known(rule[action])]);
      return { to: rule.to, where: rule.where, ...Object.fromEntries(actions.filter(([, list]) => list?.length > 0)) };
    })
    .filter(
      ({ to, where, ...permit }) => Object.keys(permit).length > 0 && (!where.own || fields.includes("department")),
    );
}

function documentOf(fields, rules) {
  const written = rules.map(({ to, where, ...permit }, index) => {
    const terms = [...(where.own ? ["department = me.department"] : []), ...statusTerm(where)];
    return [`rule-${index}`, { to, ...(terms.length > 0 && { where: terms.join(" and ") }), permit }];
  });
  const covered = ["insured_value"].filter((name) => name in fields);
  if (covered.length > 0) {
    written.push(["value", { to: ["registrar", "director"], reserve: { view: covered, edit: covered } }]);
  }
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
          post: { choice: roles },
          department: { reference: "departments", optional: true },
          site: { choice: ["north", "south"], optional: true },
          manager: { reference: "staff", optional: true },
          active: "boolean",
        },
      },
      objects: {
        key: "accession",
        ...("keeper" in fields && { owner: "keeper" }),
        fields,
        rules: Object.fromEntries(written),
      },
    },
  };
}

const statusTerm = ({ status }) => (status === undefined ? [] : [`status = '${status}'`]);

/** What somebody would type: see the top of the file. */
function byHand(fields, rules) {
  const names = Object.keys(fields);
  const open = names.filter((name) => fields[name].sensitive !== true);
  const covers = (list, name) =>
    list === undefined
      ? false
      : list === "all"
        ? open.includes(name)
        : list.includes(name) || (list.includes("all") && open.includes(name));
  const condition = ({ to, where }) => {
    const terms = to === "anyone" ? [] : to === "owner" ? ["row.keeper === who.id"] : [`who.is.${to}`];
    if (where.own) terms.push("who.department !== null && row.department === who.department");
    if (where.status !== undefined) terms.push(`row.status === "${where.status}"`);
    return terms.length === 0 ? "true" : terms.join(" && ");
  };
  // Equal conditions are said once; what one says of everybody needs no other.
  const conditions = (name, ...actions) => {
    const found = rules.filter((rule) => actions.some((action) => covers(rule[action], name))).map(condition);
    return [...new Set(found)];
  };
  const held = (name) => (name === "insured_value" ? "if (!who.is.registrar && !who.is.director) return false;" : "");
  const cases = (...actions) =>
    names
      .map((name) => {
        const ifs = conditions(name, ...actions).map((one) => `if (${one}) return true;`);
        return `case "${name}": ${held(name)} ${ifs.join(" ")} return false;`;
      })
      .join("\n");
  // A rule that permits a change holds before and after it, by itself.
  const bothTimes = (one) => {
    const after = one.replaceAll("row.", "record.");
    return `if (${one === after ? one : `${one} && ${after}`}) return true;`;
  };
  const shown = [...new Set(names.flatMap((name) => conditions(name, "list", "view")))];
  const numbered = new Map(shown.map((one, index) => [one, `c${index}`]));
  const copies = names.map((name) => {
    const any = conditions(name, "list", "view").map((one) => numbered.get(one));
    const guard = name === "insured_value" ? "(who.is.registrar || who.is.director) && " : "";
    const test = name === "accession" ? "true" : `${guard}(${any.length === 0 ? "false" : any.join(" || ")})`;
    return `if (${test}) { const v = row.${name}; if (v === null || ${fitsByHand(fields[name], "v")}) seen.${name} = v; }`;
  });
  const source = `
    const isDay = (v) => /^\\d{4}-\\d\\d-\\d\\d$/.test(v) && !Number.isNaN(Date.parse(v));
    function knows(who, row) { ${shown.map((one) => `if (${one}) return true;`).join("\n")} return false; }
    function shows(who, row, field) { switch (field) { ${cases("view", "list")} default: return false; } }
    function views(who, row, field) { switch (field) {
      case "accession": return viewsAny(who, row);
      ${names
        .filter((name) => name !== "accession")
        .map(
          (name) =>
            `case "${name}": ${held(name)} ${conditions(name, "view")
              .map((one) => `if (${one}) return true;`)
              .join(" ")} return false;`,
        )
        .join("\n")}
      default: return false; } }
    function viewsAny(who, row) { ${[...new Set(names.flatMap((name) => conditions(name, "view")))].map((one) => `if (${one}) return true;`).join(" ")} return false; }
    function edits(who, row, field) { switch (field) { ${cases("edit")} default: return false; } }
    function changes(who, row, record, field) { switch (field) { ${names
      .map((name) => `case "${name}": ${held(name)} ${conditions(name, "edit").map(bothTimes).join(" ")} return false;`)
      .join("\n")} default: return false; } }
    function fits(field, v) { switch (field) { ${names.map((name) => `case "${name}": return ${fitsByHand(fields[name], "v")};`).join("\n")} default: return false; } }
    const optional = new Set(${JSON.stringify(names.filter((name) => fields[name].optional === true))});
    const known = new Set(${JSON.stringify(names)});
    return {
      mayView: views,
      mayEdit: (who, row, field) => edits(who, row, field) && knows(who, row),
      maskAll(who, rows) {
        const out = [];
        for (let i = 0; i < rows.length; i++) {
          const row = rows[i];
          ${[...numbered].map(([one, name]) => `const ${name} = ${one};`).join("\n")}
          if (!(${[...numbered.values()].join(" || ")})) continue;
          const seen = {};
          ${copies.join("\n")}
          out.push(seen);
        }
        return out;
      },
      acceptEdit(who, row, values) {
        if (row === undefined || !knows(who, row)) return { accepted: false, refused: [{ reason: "not-found" }] };
        const refused = [];
        const changed = {};
        for (const field of Object.keys(values)) {
          if (!known.has(field)) { refused.push({ field, reason: "unknown" }); continue; }
          const value = values[field] ?? null;
          // Nobody is told whether a guess at a hidden value was right.
          if (value === row[field] && shows(who, row, field)) continue;
          changed[field] = value;
        }
        const record = { ...row, ...changed };
        for (const field of Object.keys(changed)) {
          if (!changes(who, row, record, field)) refused.push({ field, reason: "not-permitted" });
          else if (changed[field] === null ? !optional.has(field) : !fits(field, changed[field])) refused.push({ field, reason: "invalid" });
        }
        return refused.length > 0 ? { accepted: false, refused } : { accepted: true, record, changes: changed };
      },
    };`;
  return new Function(source)();
}

function fitsByHand(declared, value) {
  const { type = declared, choice } = declared;
  if (choice !== undefined) return `(${choice.map((one) => `${value} === "${one}"`).join(" || ")})`;
  switch (type) {
    case "integer":
      return `Number.isSafeInteger(${value})`;
    case "boolean":
      return `typeof ${value} === "boolean"`;
    case "decimal":
      return `(typeof ${value} === "string" && /^-?\\d+(\\.\\d+)?$/.test(${value}))`;
    case "date":
      return `(typeof ${value} === "string" && isDay(${value}))`;
    default:
      return `typeof ${value} === "string"`;
  }
}

/** The person as hand-written code keeps them: with the roles that they hold. */
export function knownByHand({ post, ...who }) {
  const is = Object.fromEntries(
    roles.map((role) => [role, role === post || (role === "assistant" && post === "keeper")]),
  );
  return { ...who, department: who.department ?? null, is };
}
