import { type Expression, type Operand, pushNots } from "../conditions/expression.js";
import type { ComparisonOp, DurationUnit, MatchWord } from "../conditions/syntax.js";
import { True } from "../conditions/truth.js";
import { actionTree } from "../rules/action-tree.js";
import type { AnyDocument, DocumentTypes, TableOf } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { type FieldPath, lastOf, singleKey } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { bound, type Residual } from "../session/bound.js";
import { conditionOf } from "../session/conditions.js";
import type { Session } from "../session/session.js";
import type { ActionOf } from "../session/session-types.js";
import { askedRecords } from "./where.js";

/** A value as JSON: dates, instants and decimals as texts, a list as a list. */
export type FilterScalar = string | number | boolean | null;

/** What a filter compares. A path is the names of fields, each but the last a reference to the next one's record. */
export type FilterValue =
  | { readonly field: readonly string[] }
  /** Inside `exists`: a field of the record around it. */
  | { readonly around: readonly string[] }
  /** Inside `exists`: a field of the outermost record. */
  | { readonly outer: readonly string[] }
  | { readonly value: FilterScalar | readonly FilterScalar[] }
  | { readonly shift: FilterValue; readonly by: number; readonly unit: DurationUnit }
  /** The text of another value, as it stands in a record's address. */
  | { readonly text: FilterValue };

/**
 * A condition as plain JSON, in the logic of SQL: a comparison with null is unknown, and a record is meant where the whole is
 * true. `isNull`, `exists`, `record`, `line` and `unless` are true or false. Every `not` stands at a single test.
 */
export type Filter =
  | { readonly always: boolean }
  | { readonly all: readonly Filter[] }
  | { readonly any: readonly Filter[] }
  | { readonly not: Filter }
  /** True where the other is false or unknown. */
  | { readonly unless: Filter }
  | { readonly compare: ComparisonOp; readonly left: FilterValue; readonly right: FilterValue }
  | { readonly in: readonly FilterValue[]; readonly value: FilterValue }
  /** An element of a list. */
  | { readonly among: FilterValue; readonly value: FilterValue }
  | { readonly match: MatchWord; readonly value: FilterValue; readonly pattern: FilterValue }
  | { readonly isNull: FilterValue }
  /** Some record of the table meets a filter of its own. */
  | { readonly exists: string; readonly where: Filter }
  /** The record of the table with this key is there and meets a filter of its own; of a list of keys, some such record. */
  | { readonly record: string; readonly key: FilterValue; readonly where: Filter }
  /** Somebody above (below) this person in the line of managers meets a filter of their own; no more than `levels` away. */
  | {
      readonly line: "above" | "below";
      readonly people: string;
      readonly manager: string;
      readonly levels?: number;
      readonly where: Filter;
    };

/**
 * The records of a table with which a person may do something, as data: for query builders and stores that have no adapter.
 * It is the condition that {@link where} writes as SQL, with the person's values in it: true exactly where
 * `session.may(action, table, record)` is, of records whose values fit their types.
 *
 * @throws PortierError for a table or action that is not there, for create and import, and for a person of whom it cannot be
 * told what they are.
 *
 * @example
 * filterData(session, "objects", "edit");
 * // { compare: "=", left: { field: ["department"] }, right: { value: "ships" } }
 */
export function filterData<T extends DocumentTypes = AnyDocument, K extends TableOf<T> = TableOf<T>>(
  session: Session<T>,
  table: K,
  action: ActionOf<T, K>,
): Filter {
  const { residual, condition } = askedRecords(session, table, action);
  return write(bound(condition, residual), residual);
}

function write(expression: Expression, residual: Residual): Filter {
  return plain(pushNots(expression), residual);
}

function plain(expression: Expression, residual: Residual): Filter {
  switch (expression.kind) {
    case "truth":
      return { always: expression.value === True };
    case "and":
      return { all: expression.terms.map((term) => plain(term, residual)) };
    case "or":
      return { any: expression.terms.map((term) => plain(term, residual)) };
    case "not":
      return opposite(expression.term, residual);
    case "compare":
      return { compare: expression.op, left: written(expression.left), right: written(expression.right) };
    case "in":
      return { in: expression.items.map(written), value: written(expression.operand) };
    case "in-list":
      return { among: written(expression.list), value: written(expression.operand) };
    case "match":
      return { match: expression.how, value: written(expression.operand), pattern: written(expression.pattern) };
    case "is-null":
      return { isNull: written(expression.operand) };
    case "belongs":
      return belongs(expression);
    case "above": {
      const key = singleKey(residual.plan.of(expression.line.table).table);
      const isThem: Filter = { compare: "=", left: { field: [key?.name ?? ""] }, right: written(expression.subject) };
      const { table: people, name: manager } = expression.line;
      return { record: people, key: pathOf(expression.path), where: { line: "above", people, manager, where: isThem } };
    }
    case "exists":
      return { exists: expression.table, where: write(expression.condition, residual) };
    case "may": {
      const gates = residual.plan.judged(expression.target);
      const asked = bound(conditionOf(gates, actionTree(gates.table, expression.action, undefined)), residual);
      return { record: expression.target, key: written(expression.key), where: write(asked, residual) };
    }
    case "person": {
      const where = plain(expression.condition, residual);
      const { people: record, here } = expression;
      const key = written(expression.key);
      const isSome = expression.quantifier === "some";
      const ofPerson =
        isSome || expression.key.type.element === undefined ? { record, key, where } : everyOne(expression, residual);
      if (here === undefined) return ofPerson;
      return isSome ? { all: [plain(here, residual), ofPerson] } : { any: [plain(here, residual), ofPerson] };
    }
    case "line": {
      const { direction, levels, line, condition, quantifier } = expression;
      const isSome = quantifier === "some";
      const own = plain(condition, residual);
      const { table: people, name: manager } = line;
      const far = levels === undefined ? {} : { levels };
      const along: Filter = { line: direction, people, manager, ...far, where: isSome ? own : { unless: own } };
      return isSome ? along : { not: along };
    }
    case "open":
      throw portierError("wrong-call", {
        what: `whether somebody is ${expression.name} is not known of a holder of roles`,
        hint: "open a session for a person",
      });
    default:
      return expression satisfies never;
  }
}

/** Of each person of a list: there is none of whom it is not so. */
function everyOne({ key, people, condition }: Extract<Expression, { kind: "person" }>, residual: Residual): Filter {
  const other: Filter = { unless: plain(condition, residual) };
  const isNone: Filter = { not: { record: people, key: written(key), where: other } };
  return { all: [{ not: { isNull: written(key) } }, isNone] };
}

function opposite(test: Expression, residual: Residual): Filter {
  const found = plain(test, residual);
  if (test.kind === "belongs" || test.kind === "above") {
    // Nobody, where a path leads nowhere: that is not unknown.
    return { any: [{ isNull: pathOf(test.path) }, { not: found }] };
  }
  if (test.kind !== "may") return { not: found };
  // Of a record that is not there, nothing is known: asked is one that is, and that the rules do not open.
  const { record, key, where } = found as Extract<Filter, { record: string }>;
  return { record, key, where: { unless: where } };
}

/** Whether a path leads to the current user, or to one of the records that they hold a role on. */
function belongs({ path, subject }: Extract<Expression, { kind: "belongs" }>): Filter {
  const isList = lastOf(path).type.element !== undefined;
  const wanted =
    subject.kind === "constant" && subject.type.element !== undefined ? listElements(subject.value ?? "[]") : undefined;
  if (wanted === undefined) {
    const value = written(subject);
    return isList ? { among: pathOf(path), value } : { compare: "=", left: pathOf(path), right: value };
  }
  const values = wanted.map((value): FilterValue => ({ value: value }));
  return isList
    ? { any: values.map((value) => ({ among: pathOf(path), value })) }
    : { in: values, value: pathOf(path) };
}

function pathOf(path: FieldPath): FilterValue {
  return { field: path.map(({ name }) => name) };
}

function written(operand: Operand): FilterValue {
  switch (operand.kind) {
    case "constant": {
      const { value, type } = operand;
      if (value === null || type.element === undefined) return { value: value === null ? null : value };
      return { value: listElements(value) };
    }
    case "field":
    case "outer":
    case "around": {
      const names = operand.path.map(({ name }) => name);
      return operand.kind === "field"
        ? { field: names }
        : operand.kind === "outer"
          ? { outer: names }
          : { around: names };
    }
    case "shift":
      return { shift: written(operand.operand), by: operand.amount, unit: operand.unit };
    case "as-decimal":
      return written(operand.operand);
    case "as-address":
      return { text: written(operand.operand) };
    case "me":
    case "held":
    case "request":
    case "today":
    case "unreadable":
      throw portierError("wrong-call", {
        what: "a value that the rules compare with cannot be read, or is not known of a holder of roles",
        hint: "mend what is stored, or open a session for a person",
      });
    default:
      return operand satisfies never;
  }
}
