import fc from "fast-check";
import type { DocumentInput, Row, RuleInput } from "portier";
import { printCondition } from "../../src/conditions/printer.js";
import { conditionsAbout, filtersOf } from "./grammar.js";

/**
 * A small document for random tests: persons with roles, groups and scoped roles; items with a field of every type; a grid.
 * Rules, groups, persons and records are drawn; the shapes stay, so that every drawn condition is right and only its
 * meaning is at stake.
 */

export const roles = {
  junior: { assignableBy: ["senior", "clerk"] },
  senior: { include: ["junior"], assignableBy: ["clerk", "outer"] },
  clerk: { exclusive: ["lead"], assignableBy: ["clerk", "inner"], minHolders: 1 },
  editor: { scope: "events", assignableBy: ["lead of this", "senior"] },
  lead: { scope: "events", include: ["editor"], assignableBy: ["clerk", "senior", "lead of this"], minHolders: 1 },
};

const staffFields = {
  id: "text",
  post: { choice: ["junior", "senior", "clerk"], optional: true },
  dept: { reference: "depts", optional: true },
  level: { type: "integer", optional: true },
  boss: { reference: "staff", optional: true },
  tongues: { list: "text", optional: true },
  since: { type: "date", optional: true },
  active: { type: "boolean", default: true },
} as const;

const itemFields = {
  id: "text",
  title: { type: "text", default: "new", label: "What it says" },
  status: { choice: ["draft", "open", "shut"], default: "draft", tags: ["flow"] },
  keeper: { reference: "staff", optional: true },
  dept: { reference: "depts", optional: true, tags: ["flow"], default: "me.dept" },
  level: { type: "integer", optional: true, default: "me.level" },
  price: { type: "decimal", sensitive: true, optional: true, tags: ["money"] },
  due: { type: "date", optional: true, default: "today" },
  seen: { type: "timestamp", optional: true, default: "now" },
  noted: { type: "timestamp", zone: "UTC", optional: true, default: "now" },
  flag: { type: "boolean", optional: true },
  labels: { list: "text", optional: true },
  helpers: { list: { reference: "staff" }, optional: true },
  counts: { list: "integer", optional: true },
  sums: { list: "decimal", optional: true },
  dates: { list: "date", optional: true },
  times: { list: "timestamp", optional: true },
  marks: { list: "boolean", optional: true },
  stages: { list: { choice: ["draft", "open"] }, optional: true },
  extra: { type: "json", optional: true },
  event: { reference: "events", optional: true },
  member: { reference: "staff", optional: true, default: "me" },
  place: { reference: "team", by: ["event", "member"] },
  dept_head: { lookup: { through: "dept", field: "head" } },
  sum: { type: "integer", computed: true, optional: true },
} as const;

const sheetFields = {
  id: "text",
  row: "integer",
  name: { type: "text", optional: true },
  q1: { type: "integer", optional: true },
  q2: { type: "integer", optional: true },
  secret: { type: "integer", sensitive: true, optional: true },
  total: { type: "integer", computed: true, optional: true },
} as const;

export const tables = {
  staff: { key: "id", owner: "id", fields: staffFields },
  depts: { key: "id", fields: { id: "text", head: { reference: "staff", optional: true } } },
  events: { key: "id", owner: "chief", fields: { id: "text", chief: { reference: "staff", optional: true } } },
  team: {
    key: ["event", "member"],
    fields: {
      event: { reference: "events" },
      member: { reference: "staff" },
      part: { choice: ["editor", "lead"] },
      from: { type: "timestamp", optional: true },
      until: { type: "timestamp", optional: true },
    },
  },
  notes: {
    key: "id",
    owner: "writer",
    fields: {
      id: "text",
      item: { reference: "items", optional: true },
      writer: { reference: "staff", optional: true },
      level: { type: "integer", optional: true },
    },
  },
  items: { label: "Pieces", key: "id", owner: "keeper", actions: ["approve"], fields: itemFields },
  sheet: {
    key: "id",
    grid: { position: "row", protections: true },
    ranges: { heading: "A1:D1", tail: "B3:C" },
    actions: ["approve"],
    fields: sheetFields,
  },
} as const;

export const now = "2027-01-31T12:00:00Z";

/** What requests declare. */
export const request = { day: "date", spot: "text", size: "integer" } as const;

/** What the sessions of random tests are given of it. */
export const promised = { now, day: "2027-02-02", spot: "ab", size: 1 } as const;

const shapes = {
  people: "staff",
  tables,
  request,
  members: ["junior", "senior", "clerk", "inner", "outer"],
  scoped: { roles: ["editor", "lead"], table: "events" },
  unasked: ["items"],
};

/** Right conditions about an item, up to a few levels deep. */
export const conditions = conditionsAbout(shapes, "items");

/** Right filters of items. */
export const filters = filtersOf(shapes, "items");

const who = fc.constantFrom(
  "anyone",
  "signed-in",
  "junior",
  "junior",
  "senior",
  "clerk",
  "inner",
  "outer",
  "owner",
  "above owner",
  "above dept.head",
  "above helpers",
  "editor of event",
  "lead of event",
  "person p1",
  "junior and below",
  "inner and 1 level below",
  "clerk and above",
  "senior and 2 levels above",
);
const fieldNames = Object.keys(itemFields);
const writable = fieldNames.filter((name) => name !== "sum" && name !== "place" && name !== "dept_head");

function fieldExtent(names: readonly string[]) {
  return fc
    .uniqueArray(fc.constantFrom("all", "-title", "status..level", "tag money", "tag flow", ...names), {
      minLength: 1,
      maxLength: 3,
    })
    .filter((list) => list.some((item) => item !== "id" && !item.startsWith("-") && !list.includes(`-${item}`)));
}

const condition = conditions.map(printCondition);
const reading = fc.record(
  {
    list: fieldExtent(fieldNames),
    view: fieldExtent(fieldNames),
    export: fieldExtent(fieldNames),
  },
  { requiredKeys: [] },
);
const acting = fc.record({ delete: fc.constant("yes"), approve: fc.constant("yes") }, { requiredKeys: [] });
const changing = fc.record(
  {
    create: fc.oneof(fc.constant("yes"), fieldExtent(writable)),
    import: fc.oneof(fc.constant("yes"), fieldExtent(writable)),
    edit: fieldExtent(writable),
    bulk: fieldExtent(writable),
  },
  { requiredKeys: [] },
);

interface RuleParts {
  readonly effect: string;
  readonly to: string[];
  readonly except: string | undefined;
  readonly where: string | undefined;
  readonly becomes: string | undefined;
  readonly alsoAfter: boolean;
  readonly from: string | undefined;
  readonly until: string | undefined;
}

/** A rule's head around its extents. `reading`, `acting` and `changing` are extents by what they are for. */
function makeRule(parts: RuleParts, read: object, act: object, change: object, otherwise: object): RuleInput {
  const { effect, to, except, where, becomes, alsoAfter, from, until } = parts;
  const isChange = becomes !== undefined;
  const extents = { ...(isChange || effect === "confirm" ? {} : read), ...(isChange ? {} : act), ...change };
  return {
    to,
    [effect]: Object.keys(extents).length === 0 ? otherwise : extents,
    ...(except === undefined ? {} : { except: [except] }),
    ...(where === undefined ? {} : { where }),
    ...(becomes === undefined ? {} : { becomes }),
    ...(alsoAfter && !isChange && effect !== "permit" ? { alsoAfter } : {}),
    ...(from === undefined ? {} : { from }),
    ...(until === undefined ? {} : { until }),
  };
}

function heads(whom: fc.Arbitrary<string>, where: fc.Arbitrary<string>): fc.Arbitrary<RuleParts> {
  const rarely = <T>(one: fc.Arbitrary<T>, freq: number) => fc.option(one, { nil: undefined, freq });
  return fc.record({
    effect: fc.constantFrom("permit", "permit", "permit", "permit", "deny", "reserve", "confirm"),
    to: fc.uniqueArray(whom, { minLength: 1, maxLength: 2 }),
    except: rarely(whom, 5),
    where: rarely(where, 2),
    becomes: rarely(fc.oneof(where, fc.constant("any")), 3),
    alsoAfter: fc.boolean(),
    from: rarely(fc.constantFrom("2027-01-31", "2027-01-31T12:00:00Z", "2027-01-31T12:00:00.000001Z"), 12),
    until: rarely(fc.constantFrom("2027-02-02T00:00:00+01:00", "2027-03-01"), 12),
  });
}

/** Rules about items. A rule with `becomes` speaks of changes only. */
export const rules: fc.Arbitrary<RuleInput> = fc
  .tuple(heads(who, condition), reading, acting, changing)
  .map(([head, read, act, change]) => makeRule(head, read, act, change, { edit: ["title"] }));

const everyWhere = fc.constantFrom("id <> 'i1'", "id = 'n1'", "id is null", "id < 'p2'", "id = me");

/** A rule under "*" of what every table has. The link table is left out: it has no id. */
export const everyRules: fc.Arbitrary<RuleInput> = fc
  .tuple(
    heads(fc.constantFrom("anyone", "junior", "clerk", "signed-in"), everyWhere),
    fc.record({ list: fc.constant("all"), view: fc.constant(["all"]) }, { requiredKeys: [] }),
    fc.record({ delete: fc.constant("yes") }, { requiredKeys: [] }),
    fc.record({ edit: fc.constant("all"), create: fc.constantFrom("all", "yes") }, { requiredKeys: [] }),
  )
  .map(([head, read, act, change]) => ({ ...makeRule(head, read, act, change, { edit: "all" }), skip: ["team"] }));

const cells = fc.record(
  {
    cells: fc.uniqueArray(fc.constantFrom("A1:D1", "B2:C4", "A2:B", "C:C", "3:3", "B2", "C:", "heading", "tail"), {
      minLength: 1,
      maxLength: 2,
    }),
    except: fc.uniqueArray(fc.constantFrom("B2", "C3:C5", "A1"), { minLength: 1, maxLength: 2 }),
  },
  { requiredKeys: ["cells"] },
);
const sheetNames = ["id", "row", "name", "q1", "q2", "secret"];
const sheetExtent = fc.oneof(
  { weight: 3, arbitrary: cells },
  {
    weight: 2,
    arbitrary: fc
      .uniqueArray(fc.constantFrom("all", "name..q2", ...sheetNames), { minLength: 1, maxLength: 2 })
      .filter((list) => list.some((item) => item !== "id")),
  },
);
const sheetWhere = fc.constantFrom("q1 > 1", "name = 'a'", "q2 is null", "q1 = q2", "id = 's1'");

/** Rules about the grid. */
export const sheetRules: fc.Arbitrary<RuleInput> = fc
  .tuple(
    heads(fc.constantFrom("anyone", "junior", "senior", "clerk"), sheetWhere),
    fc.record({ list: sheetExtent, view: sheetExtent }, { requiredKeys: [] }),
    fc.record({ delete: fc.constant("yes"), approve: fc.constant("yes") }, { requiredKeys: [] }),
    fc.record(
      { create: fc.oneof(fc.constant("yes"), sheetExtent), edit: sheetExtent, bulk: sheetExtent },
      { requiredKeys: [] },
    ),
  )
  .map(([head, read, act, change]) => makeRule(head, read, act, change, { edit: ["q1"] }));

const personWhere = fc.constantFrom(
  "level > 1",
  "level = 2 or dept = 'd1'",
  "boss.level = 1",
  "'a' in tongues",
  "post = 'clerk' and today > date '2027-01-01'",
  "not (level = 1)",
  "level < 1.5",
  "since + 30 days < date '2027-01-31'",
  "boss is senior",
  "boss is not junior or exists (team where member = this and event.chief is senior)",
);
const member = fc.oneof(
  fc.constantFrom("junior", "senior", "clerk", "person p2", "senior and below", "junior and 1 level above"),
  fc.constantFrom("p1", "p2", "gone").map((below) => ({ below })),
  fc.constantFrom({ below: "p1", levels: 1 }, { above: "p2" }, { above: "p1", levels: 2 }),
  personWhere.map((where) => ({ where })),
);
const group = (members: fc.Arbitrary<string | object>, brings: readonly string[]) =>
  fc.record(
    {
      members: fc.uniqueArray(members, { minLength: 1, maxLength: 2 }),
      where: personWhere,
      without: fc.array(
        member.filter((one) => one !== "clerk"),
        { minLength: 1, maxLength: 1 },
      ),
      roles: fc.constant(brings),
    },
    { requiredKeys: ["members"] },
  );

/** Two groups, one of which may be in the other and bring a role. */
export const groups = fc.record({
  inner: group(
    member.filter((one) => one !== "clerk"),
    [],
  ),
  outer: group(
    fc.oneof(
      fc.constant("inner"),
      member.filter((one) => one !== "clerk"),
    ),
    ["clerk"],
  ),
});

/** What can be set of a person, with a record that it can be about. */
const set = [
  ...["title", "status", "price", "level", "keeper", "dept_head", "place"].map(
    (attr) => ["items", attr, "i1"] as const,
  ),
  ...["secret", "q1", "q2", "total"].map((attr) => ["sheet", attr, "s1"] as const),
  ...([
    ["staff", "level", "p1"],
    ["depts", "head", "d1"],
    ["team", "part", "e1/p1"],
  ] as const),
];

/** Where settings per person are kept. */
const marks = {
  key: "id",
  fields: {
    id: "text",
    who: { reference: "staff" },
    part: { choice: ["items", "sheet", "staff", "depts", "team"] },
    attr: { choice: [...new Set(set.map(([, attr]) => attr))] },
    how: { choice: ["none", "view", "edit"], optional: true },
    rec: { type: "text", optional: true },
    from: { type: "timestamp", optional: true },
    until: { type: "timestamp", optional: true },
  },
  rules: { "clerks-set": { to: "clerk", permit: { view: "all", create: "all", edit: "all", delete: "yes" } } },
} as const;

const settings = {
  ...{ table: "marks", person: "who", on: "part", field: "attr", level: "how", record: "rec" },
  ...{ from: "from", until: "until", settableBy: ["clerk"] },
  adds: {
    items: { view: ["price", "title"], edit: ["status", "level"] },
    sheet: { view: "secret", edit: ["q1", "q2"] },
  },
};

/** What is drawn of a document. */
export interface Drawn {
  readonly rules: readonly RuleInput[];
  readonly every?: RuleInput | undefined;
  readonly sheet?: readonly RuleInput[];
  readonly groups?: object;
}

const named = (drawn: readonly RuleInput[]) => Object.fromEntries(drawn.map((rule, index) => [`r${index}`, rule]));

export function documentFrom({ rules: itemRules, every, sheet = [], groups: drawn }: Drawn): DocumentInput {
  const none = { inner: { members: ["senior"] }, outer: { members: ["inner"] } };
  return {
    portier: 1,
    people: {
      table: "staff",
      manager: "boss",
      active: "active",
      roles: ["post", { table: "team", person: "member", role: "part", on: "event", from: "from", until: "until" }],
      assignments: true,
      settings,
    },
    request,
    roles,
    groups: (drawn ?? none) as NonNullable<DocumentInput["groups"]>,
    tables: {
      ...(every === undefined ? {} : { "*": { rules: { every } } }),
      staff: {
        ...tables.staff,
        rules: {
          "some-known": { to: "junior", where: "level > 1", permit: { list: ["level"], export: ["level"] } },
          "clerks-know-all": { to: "clerk", permit: { list: ["dept"] } },
          "own-work": { to: "owner", permit: { view: "all", edit: ["level"], bulk: ["level"] } },
          "not-the-boss": { where: "boss = me and level <> 2", deny: { view: ["level"], edit: ["level"] } },
        },
      },
      depts: {
        ...tables.depts,
        rules: { "most-known": { to: "signed-in", where: "id <> 'd2'", permit: { view: "all" } } },
      },
      events: {
        ...tables.events,
        rules: {
          theirs: { to: ["owner", "editor of this"], permit: { view: "all", delete: "yes" } },
          "kept-by-leads": { to: "lead of this", where: "chief <> 'p1'", reserve: { delete: "yes" } },
        },
      },
      team: { ...tables.team, rules: { "own-team": { to: "editor of event", permit: { view: "all" } } } },
      notes: { ...tables.notes, rules: { known: { to: "junior", permit: { view: ["item", "writer"] } } } },
      marks,
      items: { ...tables.items, rules: named(itemRules) },
      sheet: {
        ...tables.sheet,
        rules: {
          ...named(sheet),
          "clerks-protect": { to: "clerk", permit: { protect: { cells: ["B2:C"], except: "C3" } } },
        },
      },
    },
  };
}

/** Mostly good values, some null, now and then one that does not fit, or none at all. */
function value(good: readonly unknown[], bad: unknown) {
  return fc.oneof(
    { weight: 14, arbitrary: fc.constantFrom(...good) },
    { weight: 3, arbitrary: fc.constant(null) },
    { weight: 1, arbitrary: fc.constant(bad) },
  );
}

const keys = ["p1", "p2", "p3", "p4"];

/** When something begins or ends to count. */
const ends = value([null, "2020-01-01T00:00:00Z", "2027-01-31T12:00:00Z", "2030-01-01T00:00:00.5Z"], "soon");

/** The records of the document: persons, departments, events, who leads them, and notes on items. */
export const worlds = fc.record({
  staff: fc.tuple(
    ...keys.map((id) =>
      fc.record<Record<string, unknown>>({
        id: fc.constant(id),
        post: fc.constantFrom("junior", "senior", "clerk", null),
        dept: value(["d1", "d2", "gone"], 7),
        level: value([1, 2, -2, "2"], "01"),
        boss: value(["p1", "p2", "p3", "gone"], 1),
        tongues: value([[], ["a"], ["a", "b'"]], ["a", 1]),
        since: value(["2027-01-31", "0001-01-02", "9999-12-31"], "2027-02-30"),
        active: fc.oneof(
          { weight: 9, arbitrary: fc.constant(true) },
          { weight: 1, arbitrary: fc.constantFrom(false, null) },
        ),
      }),
    ),
  ),
  depts: fc.tuple(
    ...["d1", "d2"].map((id) => fc.record<Record<string, unknown>>({ id: fc.constant(id), head: value(keys, true) })),
  ),
  events: fc.tuple(
    ...["e1", "e2"].map((id) => fc.record<Record<string, unknown>>({ id: fc.constant(id), chief: value(keys, 1) })),
  ),
  team: fc.uniqueArray(
    fc.record<Record<string, unknown>>({
      event: fc.constantFrom("e1", "e2", "gone"),
      member: fc.constantFrom(...keys),
      part: fc.constantFrom("editor", "lead"),
      from: fc.oneof({ weight: 2, arbitrary: fc.constant(null) }, ends),
      until: fc.oneof({ weight: 2, arbitrary: fc.constant(null) }, ends),
    }),
    { maxLength: 4, selector: ({ event, member: who }) => `${event}/${who}` },
  ),
  portier_assignments: fc
    .array(
      fc
        .record<Record<string, unknown>>({
          person: fc.constantFrom(...keys),
          role: fc.constantFrom("junior", "senior", "clerk", "editor", "lead", "inner"),
          event: fc.constantFrom("e1", "e2", "gone"),
          from: ends,
          until: ends,
        })
        .map(({ event, ...row }) => ({
          ...row,
          on: row["role"] === "editor" || row["role"] === "lead" ? event : null,
        })),
      { maxLength: 3 },
    )
    .map((rows) => rows.map((row, index) => ({ id: `a${index}`, ...row, assignedBy: null, reason: null }))),
  portier_delegations: fc
    .array(
      fc.record<Record<string, unknown>>({
        of: fc.constantFrom("p1", "p2", "p1", "p2", "p3"),
        to: fc.constantFrom("p1", "p3", "p4"),
        from: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, ends),
        until: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, ends),
        without: fc.constantFrom(null, [], ["junior"], ["senior", "editor"], ["clerk"]),
      }),
      { maxLength: 4 },
    )
    .map((rows) => rows.map((row, index) => ({ id: `d${index}`, ...row, assignedBy: null, reason: null }))),
  portier_protections: fc
    .array(
      fc.record<Record<string, unknown>>({
        ranges: fc.uniqueArray(fc.constantFrom("A1:D1", "B2:C4", "A2:B", "C:C", "3:3", "B2", "C:", "D5", "A:", "Z:"), {
          minLength: 1,
          maxLength: 2,
        }),
        except: fc.constantFrom(null, null, [], ["B2", "C3:C5"], ["A1"]),
        effect: fc.constantFrom("reserve", "reserve", "confirm"),
        to: fc.uniqueArray(fc.constantFrom("junior", "senior", "clerk", "outer", "person p1", "person p2"), {
          maxLength: 2,
        }),
        from: fc.constantFrom(null, null, "2027-01-31T11:00:00Z", "2027-02-01T00:00:00Z"),
        until: fc.constantFrom(null, null, "2027-01-31T12:00:00Z", "2027-02-01T00:00:00Z"),
        note: fc.constantFrom(null, "ours"),
      }),
      { maxLength: 4 },
    )
    .map((rows) =>
      rows.map((row, index): Record<string, unknown> => {
        const kept = { table: "sheet", by: "p1", at: "2027-01-01T00:00:00Z", stamp: index + 1 };
        return { id: `x${index}`, ...row, ...kept };
      }),
    )
    .chain((rows) => fc.constantFrom(rows, rows, rows, [])),
  marks: fc
    .array(
      fc
        .record({
          who: fc.constantFrom("p1", "p1", "p2", "p3"),
          of: fc.constantFrom(...set),
          how: fc.constantFrom("none", "none", "view", "edit", "edit", null),
          isOfOne: fc.boolean(),
          from: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, ends),
          until: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, ends),
        })
        .map(({ of: [part, attr, rec], isOfOne, ...row }) => ({ ...row, part, attr, rec: isOfOne ? rec : null })),
      { maxLength: 4 },
    )
    .map((rows) => rows.map((row, index): Record<string, unknown> => ({ id: `m${index}`, ...row })))
    .chain((rows) => fc.constantFrom(rows, [])),
  notes: fc
    .array(
      fc.record<Record<string, unknown>>({
        item: value(["i1", "i1", "i2"], 1),
        writer: value(keys, 1),
        level: value([1, 2, "1"], "01"),
      }),
      { maxLength: 3 },
    )
    .map((rows) => rows.map((row, index) => ({ id: `n${index}`, ...row }))),
});

const itemValues = {
  title: value(["a", "ab", "xb'", "", "B"], 5),
  status: value(["draft", "open", "shut"], "lost"),
  keeper: value([...keys, "gone"], 3),
  dept: value(["d1", "d2", "gone"], {}),
  level: value([1, 2, -2, "2", -2n], 1.5),
  price: value(["1.50", "1.5", "-2", "1", 1.5, -2], 0.1 + 0.2),
  due: value(
    [
      "2027-01-31",
      "2027-02-03",
      "2026-12-31",
      "9999-12-31",
      "0001-01-01",
      new Date("2027-01-31"),
      new Date(2027, 1, 3),
    ],
    "2027-02-30",
  ),
  seen: value(
    [
      "2027-01-31T12:00:00Z",
      "2027-01-31T10:30:00.000001Z",
      "2027-01-31T14:00:00+02:00",
      "9999-12-31T23:59:59Z",
      new Date("2027-01-31T10:30:00Z"),
      "2027-01-31 22:30:00.000001+10",
    ],
    "noon",
  ),
  noted: value(
    [
      "2027-01-31T12:00:00Z",
      "2027-01-31T10:30:00.000001Z",
      "2027-01-31T14:00:00+02:00",
      new Date("2027-01-31T10:30:00Z"),
    ],
    "noon",
  ),
  flag: value([true, false, 1, 0], "true"),
  labels: value([[], ["a"], ["ab", "a"], ["a", "ab"], '{a,"ab"}', '["ab", "a"]'], ["a", null]),
  helpers: value([[], ["p1"], ["p2", "gone"], ["p3"]], "p1"),
  counts: value([[], [1], [1, -2], ["1", "-2"]], [1.5]),
  sums: value([[], ["1"], ["1.50", "-2"], [1.5, -2]], ["1,5"]),
  dates: value([[], ["2027-01-31"], ["2027-01-31", "9999-12-31"]], ["2027-02-30"]),
  times: value([[], ["2027-01-31T13:00:00+01:00"], ["2027-01-31T12:00:00Z", "0001-01-01T00:00:00Z"]], ["noon"]),
  marks: value([[], [true], [false, true], "{f,t}"], ["true"]),
  stages: value([[], ["draft"], ["draft", "open"]], ["lost"]),
  extra: value([{ a: 1, b: [2] }, { b: [2], a: 1 }, 0, ""], () => 1),
  event: value(["e1", "e2", "gone"], 1),
  member: value(["p1", "p2"], 1),
  sum: value([1, 2], null),
};

export const items: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>({ id: fc.constant("i1"), ...itemValues });

/** Proposed values for some fields of an item, right or wrong, and now and then for one that is made or not there. */
export const proposals: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>(
  {
    id: fc.constantFrom("i1", "i2", "i9", null),
    ...itemValues,
    // What no database holds as it is.
    title: fc.oneof(
      { weight: 8, arbitrary: itemValues.title },
      { weight: 1, arbitrary: fc.constantFrom("\0", "a\ud800") },
    ),
    extra: fc.oneof(
      { weight: 8, arbitrary: itemValues.extra },
      { weight: 1, arbitrary: fc.constant({ a: ["\udc00"] }) },
    ),
    place: fc.constant("e1/p1"),
    dept_head: value(keys, 1),
  },
  { requiredKeys: [] },
);

const sheetValues = {
  row: fc.oneof(
    { weight: 12, arbitrary: fc.integer({ min: 1, max: 6 }) },
    { weight: 3, arbitrary: fc.constantFrom(0, -1, null) },
  ),
  name: value(["a", "b"], 1),
  q1: value([1, 2, 3, "2"], "01"),
  q2: value([1, 2, 3], "01"),
  secret: value([1, 2], "01"),
};

export const lines: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>({
  id: fc.constant("s1"),
  ...sheetValues,
  total: fc.constantFrom(1, null),
});

export const lineProposals: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>(
  { id: fc.constantFrom("s1", "s9"), ...sheetValues },
  { requiredKeys: [] },
);
