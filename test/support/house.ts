import fc from "fast-check";
import type { DocumentInput, Row, RuleInput } from "portier";
import { printCondition } from "../../src/conditions/printer.js";
import type { Condition, OperandSyntax } from "../../src/conditions/syntax.js";

/**
 * A small house for random tests: persons, departments, and items with a field of every type. Rules, persons and
 * records are drawn; the shapes stay, so that every drawn condition is right and only its meaning is at stake.
 */

export const roles = { junior: {}, senior: { include: ["junior"] }, clerk: {} };

export const tables = {
  staff: {
    key: "id",
    owner: "id",
    fields: {
      id: "text",
      post: { choice: Object.keys(roles), optional: true },
      dept: { reference: "depts", optional: true },
      level: { type: "integer", optional: true },
      boss: { reference: "staff", optional: true },
      active: { type: "boolean", default: true },
    },
  },
  depts: { key: "id", fields: { id: "text", head: { reference: "staff", optional: true } } },
  items: {
    key: "id",
    owner: "keeper",
    fields: {
      id: "text",
      title: { type: "text", default: "new" },
      status: { choice: ["draft", "open", "shut"], default: "draft" },
      keeper: { reference: "staff", optional: true },
      dept: { reference: "depts", optional: true },
      level: { type: "integer", optional: true },
      price: { type: "decimal", sensitive: true, optional: true },
      due: { type: "date", optional: true },
      seen: { type: "timestamp", optional: true },
      flag: { type: "boolean", optional: true },
      sum: { type: "integer", computed: true, optional: true },
    },
  },
} as const;

export const now = "2027-01-31T12:00:00Z";

const at = 0;
const path = (...names: string[]): OperandSyntax => {
  const [first = "", ...rest] = names;
  const isRoot = first === "me" || first === "owner" || first === "this" || first === "request";
  const kept = isRoot ? rest : names;
  return { kind: "path", root: isRoot ? first : "record", names: kept, places: kept.map(() => 0), at };
};
const text = (value: string): OperandSyntax => ({ kind: "text", value, at });
const number = (digits: string): OperandSyntax => ({ kind: "number", digits, at });

const numbers = fc.constantFrom(
  path("level"),
  path("me", "level"),
  path("price"),
  path("sum"),
  path("owner", "level"),
  number("1"),
  number("-2"),
  number("1.5"),
  number("1.0"),
);
const texts = fc.constantFrom(
  path("title"),
  path("id"),
  path("this", "title"),
  text("a"),
  text("ab"),
  text("b'"),
  text(""),
);
const patterns = fc.constantFrom(text("a"), text("a%"), text("_"), text("%b_"), path("title"), text(""));
const persons = fc.constantFrom(
  path("keeper"),
  path("owner"),
  path("me"),
  path("dept", "head"),
  path("me", "boss"),
  text("p1"),
);
const depts = fc.constantFrom(
  path("dept"),
  path("me", "dept"),
  path("keeper", "dept"),
  path("owner", "dept"),
  text("d1"),
);
const plainDates = fc.constantFrom<OperandSyntax>(
  path("due"),
  { kind: "today", at },
  { kind: "date", value: "2027-01-31", at },
  { kind: "date", value: "2027-02-02", at },
);
const dates = fc.oneof(
  plainDates,
  fc
    .tuple(plainDates, fc.integer({ min: -3, max: 3 }))
    .map(([operand, amount]): OperandSyntax => ({ kind: "shift", operand, amount, unit: "day", at })),
);
const instants = fc.constantFrom<OperandSyntax>(
  path("seen"),
  path("request", "now"),
  { kind: "timestamp", value: "2027-01-31T13:00:00+01:00", at },
  { kind: "shift", operand: path("seen"), amount: 90, unit: "minute", at },
);
const choices = fc.constantFrom(path("status"), text("draft"), text("open"));
const flags = fc.constantFrom<OperandSyntax>(path("flag"), path("me", "active"), { kind: "boolean", value: true, at });
const nothing = fc.constant<OperandSyntax>({ kind: "null", at });

const equalities = fc.constantFrom("=" as const, "<>" as const);
const orders = fc.constantFrom("=" as const, "<>" as const, "<" as const, "<=" as const, ">" as const, ">=" as const);

function compare(operands: fc.Arbitrary<OperandSyntax>, ops: fc.Arbitrary<"=" | "<>" | "<" | "<=" | ">" | ">=">) {
  const right = fc.oneof({ weight: 12, arbitrary: operands }, { weight: 1, arbitrary: nothing });
  return fc.record({ kind: fc.constant("compare" as const), op: ops, left: operands, right, at: fc.constant(0) });
}

function among(operands: fc.Arbitrary<OperandSyntax>) {
  const items = fc.array(fc.oneof({ weight: 8, arbitrary: operands }, { weight: 1, arbitrary: nothing }), {
    minLength: 1,
    maxLength: 3,
  });
  return fc.record({
    kind: fc.constant("in" as const),
    negated: fc.boolean(),
    operand: operands,
    items,
    at: fc.constant(0),
  });
}

const leaf: fc.Arbitrary<Condition> = fc.oneof(
  fc.record({ kind: fc.constant("truth" as const), value: fc.boolean(), at: fc.constant(0) }),
  compare(numbers, orders),
  compare(texts, orders),
  compare(persons, equalities),
  compare(depts, equalities),
  compare(dates, orders),
  compare(instants, orders),
  compare(fc.constant(path("status")), equalities).map((one) => ({ ...one, right: text("open") })),
  compare(flags, equalities),
  among(numbers),
  among(texts),
  among(choices.filter((one) => one.kind === "path")).map((one) => ({ ...one, items: [text("draft"), text("shut")] })),
  fc.record({
    kind: fc.constant("between" as const),
    negated: fc.boolean(),
    operand: numbers,
    low: numbers,
    high: numbers,
    at: fc.constant(0),
  }),
  fc.record({
    kind: fc.constant("match" as const),
    how: fc.constantFrom("like" as const, "starts with" as const, "ends with" as const, "contains" as const),
    negated: fc.boolean(),
    operand: texts,
    pattern: patterns,
    at: fc.constant(0),
  }),
  fc.record({
    kind: fc.constant("is-null" as const),
    negated: fc.boolean(),
    operand: fc.oneof(numbers, texts, persons, depts, dates, flags),
    at: fc.constant(0),
  }),
);

/** Right conditions about an item, up to a few levels deep. */
export const conditions: fc.Arbitrary<Condition> = fc.letrec<{ condition: Condition }>((tie) => ({
  condition: fc.oneof(
    { maxDepth: 3, withCrossShrink: true },
    leaf,
    fc.record({
      kind: fc.constantFrom("and" as const, "or" as const),
      terms: fc.array(tie("condition"), { minLength: 2, maxLength: 3 }),
      at: fc.constant(0),
    }),
    fc.record({ kind: fc.constant("not" as const), term: tie("condition"), at: fc.constant(0) }),
  ),
})).condition;

const who = fc.constantFrom(
  "anyone",
  "signed-in",
  "junior",
  "senior",
  "clerk",
  "owner",
  "above owner",
  "above dept.head",
);
const fieldNames = Object.keys(tables.items.fields);
const writable = fieldNames.filter((name) => name !== "sum");

function fieldExtent(names: readonly string[]) {
  return fc
    .uniqueArray(fc.constantFrom("all", "-title", "status..level", ...names), { minLength: 1, maxLength: 3 })
    .filter((list) => list.some((item) => item !== "id" && !item.startsWith("-") && !list.includes(`-${item}`)));
}

const condition = conditions.map(printCondition);
const reading = fc.record(
  { list: fieldExtent(fieldNames), view: fieldExtent(fieldNames), delete: fc.constant("yes") },
  { requiredKeys: [] },
);
const changing = fc.record(
  { create: fc.oneof(fc.constant("yes"), fieldExtent(writable)), edit: fieldExtent(writable) },
  { requiredKeys: [] },
);

/** Rules about items. A rule with `becomes` speaks of changes only. */
export const rules: fc.Arbitrary<RuleInput> = fc
  .record({
    effect: fc.constantFrom("permit", "permit", "permit", "deny", "reserve"),
    to: fc.uniqueArray(who, { minLength: 1, maxLength: 2 }),
    except: fc.option(who, { nil: undefined, freq: 5 }),
    where: fc.option(condition, { nil: undefined, freq: 2 }),
    becomes: fc.option(fc.oneof(condition, fc.constant("any")), { nil: undefined, freq: 3 }),
    reading,
    changing,
  })
  .map(({ effect, to, except, where, becomes, reading: read, changing: change }) => {
    const extents = becomes === undefined ? { ...read, ...change } : change;
    const rule: Record<string, unknown> = {
      to,
      [effect]: Object.keys(extents).length === 0 ? { edit: ["title"] } : extents,
    };
    if (except !== undefined) rule["except"] = [except];
    if (where !== undefined) rule["where"] = where;
    if (becomes !== undefined) rule["becomes"] = becomes;
    return rule as RuleInput;
  });

export function house(itemRules: readonly RuleInput[]): DocumentInput {
  const named = Object.fromEntries(itemRules.map((rule, index) => [`r${index}`, rule]));
  const permitAll = { "all-known": { to: "junior", where: "level > 1", permit: { list: ["level"] } } };
  return {
    portier: 1,
    people: { table: "staff", manager: "boss", active: "active", roles: "post" },
    roles,
    tables: {
      staff: { ...tables.staff, rules: permitAll },
      depts: {
        ...tables.depts,
        rules: { "all-known": { to: "signed-in", where: "id <> 'd2'", permit: { view: "all" } } },
      },
      items: { ...tables.items, rules: named },
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

export const staff: fc.Arbitrary<Row[]> = fc.tuple(
  ...keys.map((id) =>
    fc.record<Record<string, unknown>>({
      id: fc.constant(id),
      post: fc.constantFrom("junior", "senior", "clerk", null),
      dept: value(["d1", "d2", "gone"], 7),
      level: value([1, 2, -2], "1"),
      boss: value(["p1", "p2", "p3", "gone"], 1),
      active: fc.oneof(
        { weight: 9, arbitrary: fc.constant(true) },
        { weight: 1, arbitrary: fc.constantFrom(false, null) },
      ),
    }),
  ),
);

export const departments: fc.Arbitrary<Row[]> = fc.tuple(
  ...["d1", "d2"].map((id) => fc.record<Record<string, unknown>>({ id: fc.constant(id), head: value(keys, true) })),
);

const itemValues = {
  title: value(["a", "ab", "xb'", "", "B"], 5),
  status: value(["draft", "open", "shut"], "lost"),
  keeper: value([...keys, "gone"], 3),
  dept: value(["d1", "d2", "gone"], {}),
  level: value([1, 2, -2], 1.5),
  price: value(["1.50", "1.5", "-2", "1"], 1.5),
  due: value(["2027-01-31", "2027-02-03", "2026-12-31"], "2027-02-30"),
  seen: value(["2027-01-31T12:00:00Z", "2027-01-31T10:30:00.000001Z", "2027-01-31T14:00:00+02:00"], "noon"),
  flag: value([true, false], "true"),
  sum: value([1, 2], null),
};

export const items: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>({ id: fc.constant("i1"), ...itemValues });

/** Proposed values for some fields of an item, right or wrong. */
export const proposals: fc.Arbitrary<Row> = fc.record<Record<string, unknown>>(
  { id: fc.constantFrom("i1", "i2", "i9", null), ...itemValues },
  { requiredKeys: [] },
);
