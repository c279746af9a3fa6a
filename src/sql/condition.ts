import { type Expression, type Operand, pushNots } from "../conditions/expression.js";
import type { ComparisonOp } from "../conditions/syntax.js";
import { Bad, True } from "../conditions/truth.js";
import type { Scalar } from "../schema/scalar.js";
import { lastOf } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { listElements } from "../schema/types/list.js";
import { conditionOf } from "../session/conditions.js";
import type { Dialect } from "./dialect.js";
import { type Formula, formula, print, test as single } from "./formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "./fragment.js";
import { inside, type Place, type Scope, tableAs } from "./scope.js";
import { constantPart, fitsOf, isReadable, isStorable, isUnreadable, Joins, type Part, type Value } from "./value.js";

/**
 * When a written condition is true. In a database a condition that is null counts as not met, and nothing is put under a
 * "not": so the two unknowns of the model need no care but for what asks about them. `true`: where the model says true.
 * `bad`: also where it says unknown because of bad data; for `exists` and `may`, which must tell.
 */
type Mode = "true" | "bad";

/** A condition as a formula of single tests: true exactly where the model says true. */
export function conditionFormula(expression: Expression, scope: Scope): Formula {
  return write(pushNots(expression), scope, "true");
}

function write(expression: Expression, scope: Scope, mode: Mode): Formula {
  switch (expression.kind) {
    case "truth":
      return formula(expression.value === True || (mode === "bad" && expression.value === Bad) ? "and" : "or", []);
    case "and":
    case "or":
      return formula(
        expression.kind,
        expression.terms.map((term) => write(term, scope, mode)),
      );
    case "not":
      return writeTest(expression.term, true, scope, mode);
    default:
      return writeTest(expression, false, scope, mode);
  }
}

/** A single test, or its opposite. */
function writeTest(expression: Expression, isNegated: boolean, scope: Scope, mode: Mode): Formula {
  const joins = new Joins(scope);
  switch (expression.kind) {
    case "compare": {
      const { op, left, right } = expression;
      return compareValues(joins, isNegated ? opposite[op] : op, left, right, scope, mode);
    }
    case "in":
      return writeIn(expression, joins, scope, mode);
    case "in-list":
      return writeInList(expression, isNegated, joins, scope, mode);
    case "match":
      return writeMatch(expression, isNegated, joins, scope, mode);
    case "is-null":
      return isNull(joins.value(expression.operand), isNegated, joins, mode);
    case "belongs": {
      const path: Operand = { kind: "field", type: lastOf(expression.path).type, path: expression.path };
      const askers = elementsOf(expression.asker);
      return writeBelongs(joins, path, askers, isNegated, scope, mode);
    }
    case "above":
      return writeAbove(expression, isNegated, joins, scope, mode);
    case "exists":
      return writeExists(expression, isNegated, joins, scope, mode);
    case "may":
      return writeMay(expression, isNegated, joins, scope, mode);
    case "open":
      return never;
    case "truth":
    case "and":
    case "or":
    case "not":
      return write(pushNots({ kind: "not", term: expression }), scope, mode);
    default:
      return expression satisfies never;
  }
}

const never = formula("or", []);
const opposite: Readonly<Record<ComparisonOp, ComparisonOp>> = {
  "=": "<>",
  "<>": "=",
  "<": ">=",
  "<=": ">",
  ">": "<=",
  ">=": "<",
};

/** A test of values that are all there: with what bad data makes of it, and the records that it reads. */
function decided(joins: Joins, values: readonly Value[], positive: Fragment, guards: readonly Fragment[], mode: Mode) {
  const met = allOf([positive, ...guards]);
  const parts = values.flatMap((value) => (value.kind === "parts" ? value.parts : []));
  const bad = mode === "bad" ? isUnreadable(parts) : undefined;
  if (bad === undefined) return single(joins.exists(met));
  const present = parts.filter(({ isConstant }) => !isConstant).map(({ stored }) => sql`${stored} is not null`);
  return single(joins.exists(anyOf([met, allOf([...present, bad])])));
}

/** A test of which an operand is unreadable whatever the record: bad unless the other is null. */
function undecided(joins: Joins, values: readonly Value[], mode: Mode): Formula {
  if (mode === "true" || values.some(({ kind }) => kind === "null")) return never;
  const parts = values.flatMap((value) => (value.kind === "parts" ? value.parts : []));
  const present = parts.filter(({ isConstant }) => !isConstant).map(({ stored }) => sql`${stored} is not null`);
  return single(joins.exists(allOf(present)));
}

function compareValues(
  joins: Joins,
  op: ComparisonOp,
  leftOperand: Operand,
  rightOperand: Operand,
  scope: Scope,
  mode: Mode,
): Formula {
  const first = joins.value(leftOperand);
  const second = joins.value(rightOperand);
  if (first.kind !== "parts" || second.kind !== "parts") return undecided(joins, [first, second], mode);
  const left = asLong(first.parts, second.parts, leftOperand, scope);
  const right = asLong(second.parts, first.parts, rightOperand, scope);
  if (left === undefined || right === undefined) {
    // No record has such an address: it differs from whatever can be read.
    const differs = op === "<>" ? isReadable([...first.parts, ...second.parts]) : raw("false");
    return decided(joins, [first, second], differs, [], mode);
  }
  const pairs = left.map((part, index) => [part, right[index] as Part] as const);
  const compare = (pair: readonly [Part, Part], how: ComparisonOp) => comparePair(pair, how, scope);
  const isEquality = op === "=";
  const positive =
    pairs.length === 1
      ? compare(pairs[0] as readonly [Part, Part], op)
      : isEquality
        ? allOf(pairs.map((pair) => compare(pair, "=")))
        : allOf([anyOf(pairs.map((pair) => compare(pair, "<>"))), isReadable([...left, ...right])]);
  // A stored value that equals one that fits, fits; one that was moved or cast need not.
  const isPlain = isStored(leftOperand) || isStored(rightOperand);
  const guards = pairs.flatMap(([a, b]) => {
    if (!isEquality) return [...fitsOf(a), ...fitsOf(b)];
    if (isPlain) return a.isConstant || b.isConstant ? [] : fitsOf(a);
    return [...fitsOf(a), ...fitsOf(b)];
  });
  return decided(joins, [{ kind: "parts", parts: [...left, ...right] }], positive, guards, mode);
}

function isStored({ kind }: Operand): boolean {
  return kind === "field" || kind === "outer";
}

function comparePair([left, right]: readonly [Part, Part], op: ComparisonOp, { dialect }: Scope): Fragment {
  // The column first: that is the side which a collation beside the other one leaves to an index.
  const isTurned = left.isConstant && !right.isConstant;
  const [a, b] = isTurned ? [right, left] : [left, right];
  return dialect.compare(isTurned ? turned[op] : op, a.isConstant ? b.type : a.type, a.sql, b.sql);
}

const turned: Readonly<Record<ComparisonOp, ComparisonOp>> = {
  "=": "=",
  "<>": "<>",
  "<": ">",
  "<=": ">=",
  ">": "<",
  ">=": "<=",
};

/** An address that is written out, in as many parts as what it is compared with. Undefined for what is no such address. */
function asLong(
  parts: readonly Part[],
  others: readonly Part[],
  operand: Operand,
  { dialect }: Scope,
): readonly Part[] | undefined {
  if (parts.length >= others.length) return parts;
  if (operand.kind !== "constant" || operand.value === null) return undefined;
  const values = splitAddress(operand.value);
  if (values.length !== others.length) return undefined;
  const made = others.map(({ type }, index) => keyPart(type, values[index] ?? "", dialect));
  return made.every((part) => part !== undefined) ? made : undefined;
}

function splitAddress(address: Scalar): readonly string[] {
  return String(address)
    .split("/")
    .map((part) => part.replaceAll("%2F", "/").replaceAll("%25", "%"));
}

/** A key as its address writes it; undefined for what no record of a database can have as its key. */
function keyPart(type: FieldType, written: string, dialect: Dialect): Part | undefined {
  const value = type.canonical(type.base === "integer" ? Number(written) : written);
  return value === undefined || !isStorable(value) ? undefined : constantPart(type, value, dialect);
}

type TestOf<K extends Expression["kind"]> = Extract<Expression, { readonly kind: K }>;

/** Any of the items; constants stand in one list, and a null among them never makes it true. */
function writeIn({ operand, items }: TestOf<"in">, joins: Joins, scope: Scope, mode: Mode): Formula {
  const value = joins.value(operand);
  const [part] = value.kind === "parts" ? value.parts : [];
  const constants = items.filter((item) => item.kind === "constant" && item.value !== null);
  const isListed = part !== undefined && !part.isConstant && value.kind === "parts" && value.parts.length === 1;
  if (!isListed || constants.length < 2) {
    return formula(
      "or",
      items.map((item) => compareValues(new Joins(scope), "=", operand, item, scope, mode)),
    );
  }
  const listed = constants.map((item) => joins.value(item)).flatMap((one) => (one.kind === "parts" ? one.parts : []));
  const positive = scope.dialect.among(
    part.type,
    part.sql,
    listed.map((one) => one.sql),
  );
  const others = items.filter((item) => !constants.includes(item));
  return formula("or", [
    decided(joins, [value], positive, isStored(operand) ? [] : fitsOf(part), mode),
    ...others.map((item) => compareValues(new Joins(scope), "=", operand, item, scope, mode)),
  ]);
}

function writeInList(
  { operand, list }: TestOf<"in-list">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  if (list.kind === "constant" && list.value !== null) {
    const { element } = list.type;
    const items = listElements(list.value).map(
      (value): Operand => ({ kind: "constant", type: element as FieldType, value }),
    );
    if (items.length > 0) return write(pushNots({ kind: "in", operand, items }, isNegated), scope, mode);
    return isNegated ? isNull(joins.value(operand), true, joins, mode) : undecidedOf(joins, operand, mode);
  }
  const sought = joins.value(operand);
  const among = joins.value(list);
  const [element] = sought.kind === "parts" ? sought.parts : [];
  const [held] = among.kind === "parts" ? among.parts : [];
  if (element === undefined || held === undefined) return undecided(joins, [sought, among], mode);
  const contains = scope.dialect.contains(held.type, held.stored, element.sql);
  const present = isReadable([element, held]);
  const positive = isNegated ? sql`not ${contains}` : contains;
  return decided(joins, [sought, among], allOf([present, positive]), [], mode);
}

/** Nothing is in an empty list; whether what is sought can be read is all that is open. */
function undecidedOf(joins: Joins, operand: Operand, mode: Mode): Formula {
  return decided(joins, [joins.value(operand)], raw("false"), [], mode);
}

function writeMatch(
  { how, operand, pattern }: TestOf<"match">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const value = joins.value(operand);
  const sought = joins.value(pattern);
  const [text] = value.kind === "parts" ? value.parts : [];
  const [like] = sought.kind === "parts" ? sought.parts : [];
  if (text === undefined || like === undefined) return undecided(joins, [value, sought], mode);
  const literal = pattern.kind === "constant" ? String(pattern.value) : undefined;
  const matches = scope.dialect.match(how, text.sql, like.sql, literal);
  const positive = isNegated ? sql`not (${matches})` : matches;
  return decided(joins, [value, sought], positive, [...fitsOf(text), ...fitsOf(like)], mode);
}

/** A path that leads nowhere reads as null. */
function isNull(value: Value, isNegated: boolean, joins: Joins, mode: Mode): Formula {
  if (value.kind === "null") return formula(isNegated ? "or" : "and", []);
  if (value.kind === "unreadable") return formula(mode === "bad" ? "and" : "or", []);
  const { parts } = value;
  if (!isNegated) return single(joins.isNull(parts, mode === "bad"));
  const bad = mode === "bad" ? isUnreadable(parts) : undefined;
  const readable = isReadable(parts);
  return single(joins.exists(bad === undefined ? readable : anyOf([readable, bad])));
}

/** The constants that an operand is, a list taken apart; undefined for what cannot be read. */
function elementsOf(operand: Operand): readonly Operand[] | undefined {
  if (operand.kind !== "constant") return undefined;
  const { type, value } = operand;
  if (value === null) return [];
  if (type.element === undefined) return [operand];
  return listElements(value).map((one) => ({ kind: "constant", type: type.element as FieldType, value: one }));
}

/** Whether what a path leads to, any of it, is one of the askers: false, not unknown, where it leads nowhere. */
function writeBelongs(
  joins: Joins,
  path: Operand,
  askers: readonly Operand[] | undefined,
  isNegated: boolean,
  scope: Scope,
  mode: Mode,
): Formula {
  const value = joins.value(path);
  if (value.kind !== "parts") return never;
  const { parts } = value;
  if (askers === undefined) {
    // Who asks cannot be told: nobody, where the path leads to nobody.
    if (mode === "bad") return isNegated ? formula("and", []) : isNull(value, true, joins, mode);
    return isNegated ? isNull(value, false, joins, mode) : never;
  }
  return leadsTo(joins, parts, matchesAny(parts, askers, scope), isNegated, mode);
}

/** Whether a path's end is one of the askers; in one list where it is one column. */
function matchesAny(parts: readonly Part[], askers: readonly Operand[], scope: Scope): Fragment {
  const { dialect } = scope;
  const [only] = parts;
  if (only === undefined || parts.length > 1 || only.type.element !== undefined || askers.length < 2) {
    return anyOf(askers.map((asker) => matchesAsker(parts, asker, scope)).filter((one) => one !== undefined));
  }
  const keys = askers.map((asker) =>
    asker.kind === "constant" ? keyPart(only.type, String(asker.value), dialect) : undefined,
  );
  const known = keys.filter((key) => key !== undefined);
  return known.length === 0
    ? raw("false")
    : dialect.among(
        only.type,
        only.sql,
        known.map((key) => key.sql),
      );
}

/** A test that is false where a path leads to nothing, and bad only where it cannot be read. */
function leadsTo(joins: Joins, parts: readonly Part[], match: Fragment, isNegated: boolean, mode: Mode): Formula {
  const bad = isUnreadable(parts);
  const strict = bad === undefined ? match : allOf([match, sql`(${bad}) is not true`]);
  const wide = bad === undefined ? match : anyOf([match, bad]);
  const test = (mode === "true") === isNegated ? wide : strict;
  return single(isNegated ? joins.noneExists(test) : joins.exists(test));
}

function matchesAsker(parts: readonly Part[], asker: Operand, scope: Scope): Fragment | undefined {
  if (asker.kind !== "constant" || asker.value === null) return undefined;
  const { dialect } = scope;
  const [only] = parts;
  const element = only?.type.element;
  if (only !== undefined && element !== undefined) {
    const key = keyPart(element, String(asker.value), dialect);
    return key && dialect.contains(only.type, only.stored, key.sql);
  }
  const values = parts.length === 1 ? [String(asker.value)] : splitAddress(asker.value);
  if (values.length !== parts.length) return undefined;
  const equal = parts.map((part, index) => {
    const key = keyPart(part.type, values[index] as string, dialect);
    return key && dialect.compare("=", part.type, part.sql, key.sql);
  });
  return equal.every((one) => one !== undefined) ? allOf(equal) : undefined;
}

/**
 * Everybody below the one who asks is found once per statement, down the manager line; whoever asks is not below
 * themselves, not even in a circle.
 */
function writeAbove(
  { path, line, asker }: TestOf<"above">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const { dialect, plan } = scope;
  const value = joins.value({ kind: "field", type: lastOf(path).type, path });
  if (value.kind !== "parts") return never;
  if (asker.kind !== "constant" || asker.value === null) {
    if (mode === "bad") return isNegated ? formula("and", []) : isNull(value, true, joins, mode);
    return isNegated ? isNull(value, false, joins, mode) : never;
  }
  const people = plan.of(line.table).table;
  const [key] = people.key;
  const [part] = value.parts;
  if (key === undefined || part === undefined) return never;
  const boss = dialect.constant(key.type, asker.value);
  const person = joins.place(people);
  const column = (alias: string, name: string) => raw(`${dialect.quoteName(alias)}.${dialect.quoteName(name)}`);
  const below = { alias: `${person.alias}b`, column: "person" };
  const manager = column(person.alias, line.column);
  const keyColumn = column(person.alias, key.column);
  const staff = tableAs(scope, person);
  const found = column(below.alias, below.column);
  const line1 = sql`select ${keyColumn} from ${staff} where ${dialect.compare("=", key.type, manager, boss)}`;
  const line2 = sql`select ${keyColumn} from ${staff} join ${raw(dialect.quoteName(below.alias))} on ${dialect.compare("=", key.type, manager, found)}`;
  const everybody = sql`with recursive ${raw(`${dialect.quoteName(below.alias)} (${dialect.quoteName(below.column)})`)} as (${line1} union ${line2}) select ${raw(dialect.quoteName(below.column))} from ${raw(dialect.quoteName(below.alias))} where ${dialect.compare("<>", key.type, found, boss)}`;
  const isOne =
    part.type.element === undefined
      ? sql`${part.sql} in (${everybody})`
      : sql`exists (select 1 from (${everybody}) ${raw(dialect.quoteName(`${person.alias}e`))} where ${dialect.contains(part.type, part.stored, column(`${person.alias}e`, below.column))})`;
  return leadsTo(joins, value.parts, isOne, isNegated, mode);
}

function writeExists(
  { table, condition }: TestOf<"exists">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const place = joins.place(scope.plan.of(table).table);
  const within = inside(scope, joins.depth, place, scope.outer ?? scope.record);
  // It is false only where no record is true and none is left open by bad data.
  const asked: Mode = isNegated ? (mode === "true" ? "bad" : "true") : mode;
  const met = write(pushNots(condition), within, asked);
  const found = sql`exists (select 1 from ${tableAs(scope, place)} where ${print(met)})`;
  return single(isNegated ? sql`not ${found}` : found);
}

/** The rules of the other table, written where they are asked for. */
function writeMay(
  { action, path, isOuter }: TestOf<"may">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const start: Place | undefined = isOuter ? scope.outer : scope.record;
  if (start === undefined) return never;
  const parts = joins.path(start, path);
  const record = joins.follow(start, path);
  const condition = conditionOf(scope.plan.of(record.table.name), action);
  const asked: Mode = isNegated ? (mode === "true" ? "bad" : "true") : mode;
  const permitted = print(write(pushNots(condition), inside(scope, joins.depth, record, undefined), asked));
  const found = joins.exists(isNegated ? sql`(${permitted}) is not true` : permitted);
  const bad = mode === "bad" ? isUnreadable(parts) : undefined;
  return single(bad === undefined ? found : anyOf([found, bad]));
}
