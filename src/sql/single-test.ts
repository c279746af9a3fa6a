import type { Operand } from "../conditions/expression.js";
import { type ComparisonOp, turnedOps } from "../conditions/syntax.js";
import { type Formula, formula, test as single } from "./formula.js";
import { allOf, anyOf, type Fragment, raw, sql } from "./fragment.js";
import { inAsManyParts } from "./keys.js";
import type { Scope } from "./scope.js";
import { existsOn, fitsOf, isReadable, isUnreadable, type Joins, type Part, type Value } from "./value.js";

/**
 * When a written condition is true. In a database a condition that is null counts as not met, and nothing is put under a
 * "not": so the two unknowns of the model need no care but for what asks about them. `true`: where the model says true.
 * `bad`: also where it says unknown because of bad data; for `exists` and `may`, which must tell.
 */
export type Mode = "true" | "bad";

export const never = formula("or", []);
/** What is true where a comparison is false. */
export const opposite: Readonly<Record<ComparisonOp, ComparisonOp>> = {
  "=": "<>",
  "<>": "=",
  "<": ">=",
  "<=": ">",
  ">": "<=",
  ">=": "<",
};

/**
 * A test of values that are all there: with what bad data makes of it, and the records that it reads. `isStrict`: it is null
 * where one of the values is.
 */
export function decided(
  joins: Joins,
  values: readonly Value[],
  positive: Fragment,
  guards: readonly Fragment[],
  mode: Mode,
  isStrict = false,
) {
  const met = allOf([positive, ...guards]);
  if (mode === "true") return single(joins.exists(met, isStrict));
  const operands = operandsOf(values);
  const bad = isUnreadable(operands.flat());
  const found = joins.exists(bad === undefined ? met : anyOf([met, allOf([...operands.flatMap(notNull), bad])]));
  return single(orBroken(joins, found, operands));
}

/** A test of which an operand is unreadable whatever the record: bad unless the other is null. */
export function undecided(joins: Joins, values: readonly Value[], mode: Mode): Formula {
  if (mode === "true" || values.some(({ kind }) => kind === "null")) return never;
  const operands = operandsOf(values);
  return single(orBroken(joins, joins.exists(allOf(operands.flatMap(notNull))), operands));
}

/** Where a reference on the way cannot be read, a test is bad, unless something else that it compares is null. */
export function orBroken(joins: Joins, found: Fragment, operands: readonly (readonly Part[])[] = []): Fragment {
  const { broken } = joins;
  if (broken === undefined) return found;
  const reached = operands.flatMap((parts) => {
    const [way] = parts.map((part) => part.way);
    return way === undefined ? notNull(parts) : [anyOf([...way.broken, existsOn(way, allOf(notNull(parts)))])];
  });
  return anyOf([found, allOf([broken, ...reached])]);
}

function operandsOf(values: readonly Value[]): readonly (readonly Part[])[] {
  return values.flatMap((value) => (value.kind === "parts" ? [value.parts] : []));
}

/** A composite reference with one unreadable part is not null, even where another part is. */
function notNull(parts: readonly Part[]): readonly Fragment[] {
  const present = parts.filter(({ isConstant }) => !isConstant).map((part) => part.present);
  const bad = present.length > 1 ? isUnreadable(parts) : undefined;
  return bad === undefined ? present : [anyOf([allOf(present), bad])];
}

export function compareValues(
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
  const left = inAsManyParts(first.parts, second.parts, leftOperand, scope.dialect);
  const right = inAsManyParts(second.parts, first.parts, rightOperand, scope.dialect);
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
  const values = [left, right].map((parts): Value => ({ kind: "parts", parts }));
  return decided(joins, values, positive, guards, mode, pairs.length === 1 && pairs.flat().every(isPlainlyCompared));
}

/** Whether every database compares it by an operator, which is null beside null. */
export function isPlainlyCompared({ type }: Part): boolean {
  return type.element === undefined && type.base !== "decimal" && type.base !== "json";
}

export function isStored({ kind }: Operand): boolean {
  return kind === "field" || kind === "outer" || kind === "around";
}

function comparePair([left, right]: readonly [Part, Part], op: ComparisonOp, { dialect }: Scope): Fragment {
  // The column first: that is the side which a collation beside the other one leaves to an index.
  const isTurned = left.isConstant && !right.isConstant;
  const [a, b] = isTurned ? [right, left] : [left, right];
  return dialect.compare(isTurned ? turnedOps[op] : op, a.isConstant ? b.type : a.type, a.sql, b.sql);
}

/** A path that leads nowhere reads as null. */
export function isNull(value: Value, isNegated: boolean, joins: Joins, mode: Mode): Formula {
  if (value.kind === "null") return formula(isNegated ? "or" : "and", []);
  if (value.kind === "unreadable") return formula(mode === "bad" ? "and" : "or", []);
  const { parts } = value;
  if (!isNegated) return single(joins.isNull(parts, mode === "bad"));
  const readable = isReadable(parts);
  if (mode === "true") return single(joins.exists(readable));
  const bad = isUnreadable(parts);
  return single(orBroken(joins, joins.exists(bad === undefined ? readable : anyOf([readable, bad]))));
}

/**
 * A test that is false where a path leads to nothing, and bad only where it cannot be read, or where `open` is true and
 * the test is not.
 */
export function leadsTo(
  joins: Joins,
  parts: readonly Part[],
  match: Fragment,
  isNegated: boolean,
  mode: Mode,
  open?: Fragment,
): Formula {
  const bad = isUnreadable(parts);
  const strict = bad === undefined ? match : allOf([match, sql`(${bad}) is not true`]);
  const wide = anyOf([match, ...(bad === undefined ? [] : [bad]), ...(open === undefined ? [] : [open])]);
  const isWide = mode === "bad";
  const test = isWide !== isNegated ? wide : strict;
  if (isNegated) return single(joins.noneExists(test, isWide));
  return single(isWide ? orBroken(joins, joins.exists(test)) : joins.exists(test));
}
