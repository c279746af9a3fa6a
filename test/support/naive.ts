import { parseCondition } from "../../src/conditions/parser.js";
import type { Condition, OperandSyntax } from "../../src/conditions/syntax.js";
import { now, tables } from "./house.js";

/**
 * The rule model a second time, as slowly and plainly as it is written down: no plan, no caching, no partial
 * evaluation, every rule walked for every question. Only the parser is shared with the library. It knows the house of
 * random tests and nothing else.
 */

type Row = Readonly<Record<string, unknown>>;
type Truth = boolean | undefined;
const bad = Symbol("bad data");
type Value = string | number | bigint | boolean | null | typeof bad;

export interface World {
  readonly rules: Readonly<Record<string, Record<string, unknown>>>;
  readonly staffRules: Readonly<Record<string, Record<string, unknown>>>;
  readonly deptRules: Readonly<Record<string, Record<string, unknown>>>;
  readonly staff: readonly Row[];
  readonly depts: readonly Row[];
  /** The key of who asks; undefined for a visitor. */
  readonly me: string | undefined;
}

type TableName = "staff" | "depts" | "items";
type FieldShape = { type: string; target?: TableName; choices?: readonly string[]; flags: Record<string, unknown> };

const closures: Record<string, string[]> = { junior: ["junior"], senior: ["senior", "junior"], clerk: ["clerk"] };

function shape(table: TableName, name: string): FieldShape {
  const declared = (tables[table].fields as Record<string, unknown>)[name];
  if (typeof declared === "string") return { type: declared, flags: {} };
  const flags = declared as Record<string, unknown>;
  if (flags["reference"] !== undefined) return { type: "reference", target: flags["reference"] as TableName, flags };
  if (flags["choice"] !== undefined) return { type: "choice", choices: flags["choice"] as string[], flags };
  return { type: flags["type"] as string, flags };
}

/** A value as something that `===` and `<` compare rightly: decimals scaled, instants in microseconds. */
function read(type: FieldShape, raw: unknown): Value {
  if (raw === null) return null;
  if (type.type === "text" || type.type === "reference") return typeof raw === "string" ? raw : bad;
  if (type.type === "choice") return typeof raw === "string" && type.choices?.includes(raw) ? raw : bad;
  if (type.type === "boolean") return typeof raw === "boolean" ? raw : bad;
  if (type.type === "integer") return Number.isSafeInteger(raw) ? BigInt(raw as number) * 1000n : bad;
  if (type.type === "decimal") return typeof raw === "string" && /^-?\d+(\.\d{1,3})?$/.test(raw) ? scaled(raw) : bad;
  if (type.type === "date") {
    const day = typeof raw === "string" && /^\d{4}-\d\d-\d\d$/.test(raw) ? new Date(`${raw}T00:00:00Z`) : undefined;
    return day !== undefined && !Number.isNaN(day.getTime()) && day.toISOString().startsWith(raw as string)
      ? (raw as string)
      : bad;
  }
  return typeof raw === "string" && /^\d{4}-/.test(raw) ? microseconds(raw) : bad;
}

function scaled(digits: string): bigint {
  const [whole = "", fraction = ""] = digits.replace("-", "").split(".");
  const size = BigInt(whole) * 1000n + BigInt(fraction.padEnd(3, "0"));
  return digits.startsWith("-") ? -size : size;
}

function microseconds(instant: string): bigint {
  const fraction = /\.(\d+)/.exec(instant)?.[1] ?? "";
  return BigInt(Date.parse(instant.replace(/\.\d+/, ""))) * 1000n + BigInt(fraction.padEnd(6, "0"));
}

const rowsOf = (world: World, table: TableName) => (table === "staff" ? world.staff : world.depts);

function follow(world: World, table: TableName, row: Row | undefined, names: readonly string[]): Value {
  if (row === undefined) return null;
  const [name = "", ...rest] = names;
  const type = shape(table, name);
  const raw = row[name];
  const value = raw === undefined ? bad : read(type, raw);
  if (rest.length === 0 || value === null || value === bad) return value;
  const next = rowsOf(world, type.target as TableName).find((one) => one["id"] === value);
  return next === undefined ? null : follow(world, type.target as TableName, next, rest);
}

const person = (world: World) => world.staff.find((one) => one["id"] === world.me);

function operand(world: World, table: TableName, row: Row, node: OperandSyntax): Value {
  switch (node.kind) {
    case "text":
    case "boolean":
      return node.value;
    case "number":
      return scaled(node.digits);
    case "null":
      return null;
    case "date":
      return node.value;
    case "timestamp":
      return microseconds(node.value);
    case "today":
      return now.slice(0, 10);
    case "shift": {
      const value = operand(world, table, row, node.operand);
      if (value === null || value === bad) return value;
      if (typeof value === "bigint") return value + BigInt(node.amount) * 60_000_000n;
      const day = new Date(`${value as string}T00:00:00Z`);
      return new Date(day.getTime() + node.amount * 86_400_000).toISOString().slice(0, 10);
    }
    case "path": {
      if (node.root === "request") return microseconds(now);
      if (node.root === "me")
        return follow(world, "staff", person(world), node.names.length === 0 ? ["id"] : node.names);
      const own = node.root === "owner" ? ["keeper", ...node.names] : node.names.length === 0 ? ["id"] : node.names;
      return follow(world, table, row, own);
    }
    default:
      return node satisfies never;
  }
}

const not = (truth: Truth): Truth => (truth === undefined ? undefined : !truth);
const all = (truths: readonly Truth[]): Truth =>
  truths.includes(false) ? false : truths.includes(undefined) ? undefined : true;
const any = (truths: readonly Truth[]): Truth => not(all(truths.map(not)));

function compare(op: string, a: Value, b: Value): Truth {
  if (a === null || b === null || a === bad || b === bad) return undefined;
  if (op === "=") return a === b;
  if (op === "<>") return a !== b;
  const below = a < b;
  const same = a === b;
  return { "<": below, "<=": below || same, ">": !below && !same, ">=": !below }[op];
}

function like(value: string, pattern: string): boolean {
  const source = [...pattern].map((sign) =>
    sign === "%" ? "[^]*" : sign === "_" ? "[^]" : sign.replace(/[\\^$.*+?()[\]{}|]/g, "\\$&"),
  );
  return new RegExp(`^${source.join("")}$`, "u").test(value);
}

function truth(world: World, table: TableName, row: Row, node: Condition): Truth {
  const value = (one: OperandSyntax) => operand(world, table, row, one);
  const signed = (negated: boolean, result: Truth) => (negated ? not(result) : result);
  switch (node.kind) {
    case "truth":
      return node.value;
    case "and":
      return all(node.terms.map((term) => truth(world, table, row, term)));
    case "or":
      return any(node.terms.map((term) => truth(world, table, row, term)));
    case "not":
      return not(truth(world, table, row, node.term));
    case "compare":
      return compare(node.op, value(node.left), value(node.right));
    case "in":
      return signed(node.negated, any(node.items.map((item) => compare("=", value(node.operand), value(item)))));
    case "between": {
      const [one, low, high]: Value[] = [value(node.operand), value(node.low), value(node.high)];
      return signed(
        node.negated,
        all([compare(">=", one ?? null, low ?? null), compare("<=", one ?? null, high ?? null)]),
      );
    }
    case "match": {
      const [one, pattern] = [value(node.operand), value(node.pattern)];
      if (typeof one !== "string" || typeof pattern !== "string") return undefined;
      const holds = {
        like: like(one, pattern),
        "starts with": one.startsWith(pattern),
        "ends with": one.endsWith(pattern),
        contains: one.includes(pattern),
      }[node.how];
      return signed(node.negated, holds);
    }
    case "is-null": {
      const one = value(node.operand);
      return one === bad ? undefined : signed(node.negated, one === null);
    }
    default:
      throw new Error(`the house knows no ${node.kind}`);
  }
}

function condition(world: World, table: TableName, row: Row, source: unknown, otherwise: Truth): Truth {
  if (source === undefined) return otherwise;
  if (source === "any") return true;
  const parsed = parseCondition(source as string);
  if ("problem" in parsed) throw new Error(parsed.problem.expected);
  return truth(world, table, row, parsed.condition);
}

function entry(world: World, table: TableName, row: Row, word: string): Truth {
  const me = person(world);
  if (world.me !== undefined && me?.["active"] !== true) return false;
  if (word === "anyone") return true;
  if (word === "signed-in") return me !== undefined;
  if (word === "owner") return isMe(world, follow(world, table, row, table === "staff" ? ["id"] : ["keeper"]));
  if (word.startsWith("above "))
    return isAbove(world, follow(world, table, row, word === "above owner" ? ["keeper"] : ["dept", "head"]));
  const post = me?.["post"];
  return typeof post === "string" && (closures[post]?.includes(word) ?? false);
}

function isMe(world: World, value: Value): Truth {
  if (world.me === undefined || value === null) return false;
  return value === bad ? undefined : value === world.me;
}

function isAbove(world: World, value: Value): Truth {
  if (world.me === undefined || value === null) return false;
  const seen = new Set<Value>();
  let below: Value = value;
  for (;;) {
    if (below === bad) return undefined;
    if (below === null || seen.has(below)) return false;
    seen.add(below);
    const found = world.staff.find((one) => one["id"] === below);
    below = found === undefined ? null : follow(world, "staff", found, ["boss"]);
    if (below === world.me) return !seen.has(below);
  }
}

type Rule = Readonly<Record<string, unknown>>;
const list = (value: unknown): string[] =>
  value === undefined ? [] : Array.isArray(value) ? value : [value as string];

function isFor(world: World, table: TableName, row: Row, rule: Rule): Truth {
  const met = any(list(rule["to"] ?? "anyone").map((word) => entry(world, table, row, word)));
  return all([met, not(any(list(rule["except"]).map((word) => entry(world, table, row, word))))]);
}

function covers(table: TableName, rule: Rule, effect: string, action: string, field: string): boolean {
  const extent = (rule[effect] as Record<string, unknown>)[action];
  if (extent === undefined || extent === "yes") return false;
  const names = Object.keys(tables[table].fields);
  const { flags } = shape(table, field);
  const isKey = field === "id";
  const isOwner = table === "items" && field === "keeper";
  const writes = action === "edit" || action === "create";
  const byName =
    effect === "permit" &&
    (flags["sensitive"] === true ||
      (writes && (flags["computed"] === true || isOwner || (action === "edit" && isKey))));
  let taken = false;
  for (const item of list(extent)) {
    if (item === `-${field}`) return false;
    if (item === field) taken = true;
    else if (item === "all") taken ||= !byName;
    else if (item.includes("..")) {
      const [from = "", to = ""] = item.split("..");
      const index = names.indexOf(field);
      taken ||= !byName && names.indexOf(from) <= index && index <= names.indexOf(to);
    }
  }
  return taken;
}

const effectOf = (rule: Rule) =>
  (["deny", "reserve", "permit"] as const).find((effect) => rule[effect] !== undefined) ?? "permit";

const rulesOf = (world: World, table: TableName): Rule[] =>
  Object.values(table === "items" ? world.rules : table === "staff" ? world.staffRules : world.deptRules);

/** The three steps of the model for one field, action and state; `test` says whether and where a rule applies. */
function judged(rules: readonly Rule[], met: (rule: Rule) => Truth, where: (rule: Rule) => Truth): boolean {
  let permitted = false;
  for (const rule of rules) {
    const effect = effectOf(rule);
    if (effect === "deny" && met(rule) !== false && where(rule) !== false) return false;
    if (effect === "reserve" && met(rule) !== true && where(rule) !== false) return false;
    if (effect === "permit" && met(rule) === true && where(rule) === true) permitted = true;
  }
  return permitted;
}

export class Naive {
  readonly world: World;

  constructor(world: World) {
    this.world = world;
  }

  #asks(): boolean {
    return this.world.me === undefined || person(this.world)?.["active"] === true;
  }

  seesField(table: TableName, action: "list" | "view", row: Row, field: string): boolean {
    if (!this.#asks()) return false;
    if (field === "id") return this.seesRecord(table, action, row);
    return this.#sees(table, action, row, field);
  }

  #sees(table: TableName, action: "list" | "view", row: Row, field: string): boolean {
    const actions = action === "list" ? ["list", "view"] : ["view"];
    const rules = rulesOf(this.world, table).flatMap((rule) => {
      const hit = actions.some((one) => covers(table, rule, effectOf(rule), one, field));
      return hit ? [rule] : [];
    });
    return judged(
      rules,
      (rule) => isFor(this.world, table, row, rule),
      (rule) => condition(this.world, table, row, rule["where"], true),
    );
  }

  seesRecord(table: TableName, action: "list" | "view", row: Row): boolean {
    return this.#asks() && Object.keys(tables[table].fields).some((field) => this.#sees(table, action, row, field));
  }

  knows(table: TableName, row: Row): boolean {
    return this.seesRecord(table, "list", row) || this.seesRecord(table, "view", row);
  }

  mask(action: "list" | "view", row: Row): Row | undefined {
    if (!this.seesRecord("items", action, row)) return undefined;
    const seen = Object.keys(tables.items.fields).filter((field) => {
      const raw = row[field];
      return (
        this.seesField("items", action, row, field) && raw !== undefined && read(shape("items", field), raw) !== bad
      );
    });
    return Object.fromEntries(seen.map((field) => [field, row[field]]));
  }

  mayDelete(row: Row): boolean {
    if (!this.#asks() || !this.knows("items", row)) return false;
    const rules = rulesOf(this.world, "items").filter((rule) => (rule[effectOf(rule)] as Row)["delete"] !== undefined);
    return judged(
      rules,
      (rule) => isFor(this.world, "items", row, rule),
      (rule) => condition(this.world, "items", row, rule["where"], true),
    );
  }

  /** Asked without values: whether an edit of the field may be tried. */
  mayTry(row: Row, field: string): boolean {
    if (!this.#asks() || !this.knows("items", row)) return false;
    const rules = rulesOf(this.world, "items").filter((rule) => {
      const isLater = effectOf(rule) !== "permit" && rule["becomes"] !== undefined;
      return !isLater && covers("items", rule, effectOf(rule), "edit", field);
    });
    return judged(
      rules,
      (rule) => isFor(this.world, "items", row, rule),
      (rule) => condition(this.world, "items", row, rule["where"], true),
    );
  }

  #same(field: string, a: unknown, b: unknown): boolean {
    const type = shape("items", field);
    if (a === undefined || b === undefined) return false;
    const [x, y] = [read(type, a), read(type, b)];
    return x !== bad && x === y;
  }

  #refersWrongly(field: string, after: Row): boolean {
    const { target } = shape("items", field);
    const value = after[field];
    if (target === undefined || value === null || typeof value !== "string") return false;
    if (target === "staff" && value === this.world.me) return false;
    const found = rowsOf(this.world, target).find((one) => one["id"] === value);
    return found === undefined || !this.knows(target, found);
  }

  #valid(field: string, value: unknown, needed: boolean): boolean {
    if (value === null) return !needed;
    return read(shape("items", field), value) !== bad;
  }

  /** `not-found`, `invalid`, `ok`, or the refused fields. Items other than i1 and i2 do not exist. */
  edit(before: Row, values: Row): string {
    if (!this.#asks() || !this.knows("items", before)) return "not-found";
    const changed = Object.keys(values).filter((field) => {
      const hidden = !this.seesField("items", "list", before, field) && !this.seesField("items", "view", before, field);
      return hidden || !this.#same(field, before[field], values[field]);
    });
    if (changed.length === 0) return "ok";
    const after: Record<string, unknown> = { ...before };
    for (const field of changed) after[field] = values[field];
    const refused = changed.filter((field) => {
      const rules = rulesOf(this.world, "items").filter((rule) => covers("items", rule, effectOf(rule), "edit", field));
      const permitted = judged(
        rules,
        (rule) => isFor(this.world, "items", before, rule),
        (rule) => {
          const isPermit = effectOf(rule) === "permit";
          const held = condition(this.world, "items", before, rule["where"], true);
          const later = rule["becomes"] ?? (isPermit ? rule["where"] : undefined);
          return all([held, condition(this.world, "items", after, later, true)]);
        },
      );
      return !permitted || this.#refersWrongly(field, after);
    });
    if (refused.length > 0) return refused.sort().join(",");
    const invalid = changed.some(
      (field) => !this.#valid(field, after[field], shape("items", field).flags["optional"] !== true),
    );
    const taken = changed.includes("id") && (after["id"] === "i1" || after["id"] === "i2");
    return invalid || taken ? "invalid" : "ok";
  }

  /** `act` among the refused stands for creating at all. */
  create(values: Row): string {
    const record: Record<string, unknown> = {};
    const given: string[] = [];
    for (const field of Object.keys(tables.items.fields)) {
      const mine =
        field === "keeper" && this.world.me !== undefined && person(this.world) !== undefined
          ? this.world.me
          : undefined;
      const standard = mine ?? shape("items", field).flags["default"] ?? null;
      record[field] = field in values ? values[field] : standard;
      if (field in values && !this.#same(field, values[field], standard)) given.push(field);
    }
    const test = (rules: readonly Rule[]) =>
      this.#asks() &&
      judged(
        rules,
        (rule) => isFor(this.world, "items", record, rule),
        (rule) =>
          all([
            condition(this.world, "items", record, rule["where"], true),
            condition(this.world, "items", record, rule["becomes"], true),
          ]),
      );
    const acting = rulesOf(this.world, "items").filter((rule) => {
      const extent = (rule[effectOf(rule)] as Row)["create"];
      if (effectOf(rule) === "permit") return extent !== undefined;
      const whole = list(extent);
      return whole.includes("yes") || (whole.includes("all") && !whole.some((item) => item.startsWith("-")));
    });
    const refused = test(acting) ? [] : ["act"];
    for (const field of given) {
      const rules = rulesOf(this.world, "items").filter((rule) =>
        covers("items", rule, effectOf(rule), "create", field),
      );
      if (!test(rules) || this.#refersWrongly(field, record)) refused.push(field);
    }
    if (refused.length > 0) return refused.sort().join(",");
    const invalid = Object.keys(record).some((field) => {
      const { flags } = shape("items", field);
      return !this.#valid(field, record[field], flags["optional"] !== true && flags["computed"] !== true);
    });
    return invalid || record["id"] === "i1" || record["id"] === "i2" ? "invalid" : "ok";
  }
}
