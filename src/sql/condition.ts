import {
  type Expression,
  isMade,
  type LineTest,
  not,
  type Operand,
  operandsOf,
  type PersonTest,
  pushNots,
} from "../conditions/expression.js";
import { Bad, False, True, type Truth, Unknown } from "../conditions/truth.js";
import { actionTree } from "../rules/action-tree.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, lastOf, type Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { listElements } from "../schema/types/list.js";
import { bound } from "../session/bound.js";
import { conditionOf } from "../session/conditions.js";
import { type Formula, formula, print, test as single } from "./formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "./fragment.js";
import { addressParts } from "./keys.js";
import { hasOpenEnd, isAlongLine } from "./line.js";
import type { Place } from "./place.js";
import { column, inside, type Scope, tableAs } from "./scope.js";
import {
  compareValues,
  decided,
  isNull,
  isPlainlyCompared,
  isStored,
  type Mode,
  never,
  opposite,
  orBroken,
  undecided,
} from "./single-test.js";
import { fitsOf, isReadable, isUnreadable, Joins } from "./value.js";
import { writeAbove, writeBelongs, writeMembership } from "./who.js";

/** A condition as a formula of single tests: true exactly where the model says true. */
export function conditionFormula(expression: Expression, scope: Scope): Formula {
  // Most fields of a table stand under few conditions.
  const known = written.get(scope)?.get(expression);
  if (known !== undefined) return known;
  const made = write(pushNots(bound(expression, scope.residual)), scope, "true");
  written.set(scope, (written.get(scope) ?? new Map<Expression, Formula>()).set(expression, made));
  return made;
}

const written = new WeakMap<Scope, Map<Expression, Formula>>();

/** The number of the truth value that a condition has. */
export function truthNumber(expression: Expression, scope: Scope): Fragment {
  const number = (truth: Truth) => raw(String(truth));
  const when = (one: Expression, mode: Mode) => print(write(pushNots(one), scope, mode));
  const isTrue = sql`when ${when(expression, "true")} then ${number(True)}`;
  const isFalse = sql`when ${when(not(expression), "true")} then ${number(False)}`;
  const isBad = sql`when ${when(expression, "bad")} then ${number(Bad)}`;
  return sql`case ${isTrue} ${isFalse} ${isBad} else ${number(Unknown)} end`;
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
      return markFixed(writeTest(expression.term, true, scope, mode), expression.term);
    default:
      return markFixed(writeTest(expression, false, scope, mode), expression);
  }
}

/** Marks what depends on nothing but the current user: a statement for anybody works it out once. */
function markFixed(one: Formula, expression: Expression): Formula {
  const isFixed = expression.kind === "open" || (isComparing(expression) && operandsOf(expression).every(isOfSession));
  if (!isFixed) return one;
  const mark = (term: Formula): Formula =>
    term.kind === "test" ? { ...term, isFixed: true } : { ...term, terms: term.terms.map(mark) };
  return mark(one);
}

function isComparing({ kind }: Expression): boolean {
  return kind === "compare" || kind === "in" || kind === "in-list" || kind === "match" || kind === "is-null";
}

function isOfSession(operand: Operand): boolean {
  if (isMade(operand)) return isOfSession(operand.operand);
  return operand.kind !== "field" && operand.kind !== "outer" && operand.kind !== "around";
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
    case "belongs":
      return writeBelongs(expression, isNegated, joins, scope, mode);
    case "above":
      return writeAbove(expression, isNegated, joins, scope, mode);
    case "exists":
      return writeExists(expression, isNegated, joins, scope, mode);
    case "may":
      return writeMay(expression, isNegated, joins, scope, mode);
    case "open":
      return writeMembership(expression.name, isNegated, scope, mode);
    case "person":
      return writePerson(expression, joins, scope, mode);
    case "line":
      return writeLine(expression, joins, scope, mode);
    case "truth":
    case "and":
    case "or":
    case "not":
      return write(pushNots({ kind: "not", term: expression }), scope, mode);
    default:
      return expression satisfies never;
  }
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
    decided(joins, [value], positive, isStored(operand) ? [] : fitsOf(part), mode, isPlainlyCompared(part)),
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

function writeExists(
  { table, condition }: TestOf<"exists">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const place = joins.place(scope.residual.plan.read(table));
  const within = { ...inside(scope, joins.depth, place, scope.outer ?? scope.record), around: scope.record };
  const met = write(pushNots(condition), within, insideMode(isNegated, mode));
  const found = sql`exists (select 1 from ${tableAs(scope, place)} where ${print(met)})`;
  return single(isNegated ? sql`not ${found}` : found);
}

/** What must not be: it is certainly not so only where it is neither true nor left open by bad data. */
function insideMode(isNegated: boolean, mode: Mode): Mode {
  if (!isNegated) return mode;
  return mode === "true" ? "bad" : "true";
}

/** The rules of the other table, written where they are asked for. */
function writeMay(
  { action, key, target }: TestOf<"may">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const asked = askedRecord(key, scope.residual.plan.of(target).table, joins, scope);
  if (asked === undefined) return mode === "bad" && key.kind === "unreadable" ? formula("and", []) : never;
  const { record, bad } = asked;
  const gates = scope.residual.plan.judged(target);
  const condition = conditionOf(gates, actionTree(gates.table, action, undefined));
  const within = inside(scope, joins.depth, record, undefined);
  const permitted = print(write(pushNots(bound(condition, scope.residual)), within, insideMode(isNegated, mode)));
  const found = joins.exists(isNegated ? sql`(${permitted}) is not true` : permitted);
  if (mode === "true") return single(found);
  return single(orBroken(joins, bad === undefined ? found : anyOf([found, bad])));
}

/** A record of the people, of which something is asked. No "not" stands before it: it says itself what it asks of whom. */
function writePerson({ key, people, condition, here, quantifier }: PersonTest, joins: Joins, scope: Scope, mode: Mode) {
  const isSome = quantifier === "some";
  const { table } = scope.residual.plan.of(people);
  const of = (record: Place, depth: number) => print(write(condition, inside(scope, depth, record, undefined), mode));
  const ofPerson = (): Formula => {
    if (key.type.element !== undefined) {
      const value = joins.value(key);
      const [list] = value.kind === "parts" ? value.parts : [];
      if (list === undefined) return undecided(joins, [value], mode);
      const place = joins.place(table);
      const [own] = table.key;
      const isElement = scope.dialect.contains(list.type, list.stored, column(scope, place, own as Field));
      const met = of(place, joins.depth);
      const found = sql`exists (select 1 from ${tableAs(scope, place)} where ${allOf([isElement, isSome ? met : sql`(${met}) is not true`])})`;
      return decided(joins, [value], allOf([isReadable([list]), isSome ? found : sql`not ${found}`]), [], mode);
    }
    const asked = askedRecord(key, table, joins, scope);
    if (asked === undefined) return mode === "bad" && key.kind === "unreadable" ? formula("and", []) : never;
    const found = joins.exists(of(asked.record, joins.depth));
    if (mode === "true") return single(found);
    return single(orBroken(joins, asked.bad === undefined ? found : anyOf([found, asked.bad])));
  };
  if (here === undefined) return ofPerson();
  return formula(isSome ? "and" : "or", [write(here, scope, mode), ofPerson()]);
}

/** Somebody along the manager line. No "not" stands before it, either. */
function writeLine(test: LineTest, joins: Joins, scope: Scope, mode: Mode): Formula {
  const { line, key, condition, quantifier } = test;
  const isSome = quantifier === "some";
  const person = joins.place(scope.residual.plan.of(line.table).table);
  const met = print(write(condition, inside(scope, joins.depth, person, undefined), mode));
  const found = isAlongLine(test, isSome ? met : sql`(${met}) is not true`, person, joins, scope);
  const open = hasOpenEnd(test, person, joins, scope);
  const own = joins.value({ kind: "field", type: key.type, path: [key] });
  if (isSome) return single(open === undefined || mode === "true" ? found : anyOf([found, open]));
  const none = sql`not ${found}`;
  const decidedNone = open === undefined || mode === "bad" ? none : allOf([none, sql`not ${open}`]);
  return decided(joins, [own], decidedNone, [], mode);
}

/** The record that a `may` asks about, joined by its key; undefined where there can be none. */
function askedRecord(key: Operand, table: Table, joins: Joins, scope: Scope) {
  if (key.kind === "field" || key.kind === "outer") {
    const start = key.kind === "field" ? scope.record : scope.outer;
    // A path that ends in a record's own key has come to that record.
    const isOwnKey = lastOf(key.path).type.target === undefined;
    const steps = isOwnKey ? key.path.slice(0, -1) : key.path;
    // Where a reference on the way is bad, the last one among them, the way is broken.
    return start && { record: joins.follow(start, steps), bad: undefined };
  }
  const value = joins.value(key);
  if (value.kind !== "parts") return undefined;
  const types = table.key.map(({ type }) => type);
  const parts = key.kind === "constant" ? addressParts(types, key.value as Scalar, scope.dialect) : value.parts;
  return parts && { record: joins.find(table, parts), bad: isUnreadable(parts) };
}
