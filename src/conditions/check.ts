import { limits } from "../schema/limits.js";
import type { Path } from "../schema/problems.js";
import type { Problems } from "../schema/report.js";
import {
  type Field,
  type FieldPath,
  lastOf,
  type Schema,
  singleKey,
  type Table,
  writtenOut,
} from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { reference } from "../schema/types/reference.js";
import { scalarTypes } from "../schema/types/scalars.js";
import { always, and, type Expression, never, not, type Operand, or } from "./expression.js";
import { parseCondition } from "./parser.js";
import type { Condition, OperandSyntax, PathSyntax } from "./syntax.js";
import { Unknown } from "./truth.js";

/** What a condition's names mean: the table whose record it is about, and where problems go. */
export interface Scope {
  readonly schema: Schema;
  readonly table: Table;
  readonly problems: Problems;
  /** Place of the condition's text in the document. */
  readonly path: Path;
  /** Whether a `may` may do with the action on the table; undefined where `may` has no place, as in a group. */
  readonly isAction: ((action: string, table: Table) => boolean) | undefined;
}

/** Parses a condition and resolves it in its scope. After a problem the answer is undefined and the problem is listed. */
export function readCondition(source: string, scope: Scope): Expression | undefined {
  const parsed = parseCondition(source);
  if ("problem" in parsed) {
    const { code, at, found, expected } = parsed.problem;
    if (code === "condition-depth") scope.problems.add(code, { limit: limits.conditionDepth }, scope.path, at);
    else scope.problems.add(code, { found, expected }, scope.path, at);
    return undefined;
  }
  const before = scope.problems.list.length;
  const expression = new Checker(scope).condition(parsed.condition);
  return scope.problems.list.length === before ? expression : undefined;
}

class Checker {
  readonly #scope: Scope;
  /** Inside `exists`: the table of the record that the rule is about, which `this` leads to. */
  readonly #outer: Table | undefined;

  constructor(scope: Scope, outer?: Table) {
    this.#scope = scope;
    this.#outer = outer;
  }

  condition(node: Condition): Expression {
    switch (node.kind) {
      case "truth":
        return node.value ? always : never;
      case "and":
        return and(node.terms.map((term) => this.condition(term)));
      case "or":
        return or(node.terms.map((term) => this.condition(term)));
      case "not":
        return not(this.condition(node.term));
      case "compare":
        return this.#compare(node.op, node.left, node.right, node.at);
      case "in":
        return this.#negate(node.negated, this.#in(node.operand, node.items));
      case "in-list":
        return this.#negate(node.negated, this.#inList(node));
      case "between":
        return this.#negate(
          node.negated,
          and([
            this.#compare(">=", node.operand, node.low, node.low.at),
            this.#compare("<=", node.operand, node.high, node.high.at),
          ]),
        );
      case "match":
        return this.#negate(node.negated, this.#match(node));
      case "exists":
        return this.#exists(node);
      case "may":
        return this.#may(node);
      case "is-null": {
        const operand = this.#operand(node.operand);
        return operand === undefined ? never : this.#negate(node.negated, { kind: "is-null", operand });
      }
      default:
        return node satisfies never;
    }
  }

  #negate(negated: boolean, expression: Expression): Expression {
    return negated ? not(expression) : expression;
  }

  #compare(
    op: "=" | "<>" | "<" | "<=" | ">" | ">=",
    left: OperandSyntax,
    right: OperandSyntax,
    at: number,
  ): Expression {
    const pair = this.#pair(left, right, op, at);
    if (pair === undefined) return never;
    if (op !== "=" && op !== "<>") {
      for (const [operand, syntax] of [
        [pair[0], left],
        [pair[1], right],
      ] as const) {
        if (operand.type.compare !== undefined && operand.type.name !== "reference") continue;
        if (syntax.kind === "null") continue;
        this.#scope.problems.add("not-ordered", { label: operand.type.label, op }, this.#scope.path, syntax.at);
        return never;
      }
    }
    return { kind: "compare", op, left: pair[0], right: pair[1] };
  }

  #in(operandSyntax: OperandSyntax, items: readonly OperandSyntax[]): Expression {
    const pairs = items.map((item) => this.#pair(operandSyntax, item, "in", item.at));
    const known = pairs.filter((pair) => pair !== undefined);
    const [first] = known;
    if (first === undefined || known.length < pairs.length) return never;
    // Where integers and decimals mix, the operand is not one value for all items: then each is a comparison of its own.
    if (known.every((pair) => pair[0].type.base === first[0].type.base)) {
      return { kind: "in", operand: first[0], items: known.map((pair) => pair[1]) };
    }
    return or(known.map(([left, right]) => ({ kind: "compare", op: "=", left, right })));
  }

  #inList(node: Extract<Condition, { kind: "in-list" }>): Expression {
    const operand = this.#operand(node.operand);
    const list = this.#operand(node.list);
    if (operand === undefined || list === undefined) return never;
    const element = list.type.element;
    if (element === undefined) {
      const names = node.list.root === "record" ? node.list.names : [node.list.root, ...node.list.names];
      this.#scope.problems.add("not-a-list", { field: names.join(".") }, this.#scope.path, node.list.at);
      return never;
    }
    if (node.operand.kind === "null") return { kind: "truth", value: Unknown };
    const isSame = comparable(operand.type, element) && operand.type.base !== "list";
    if (isSame && group(operand.type) !== "number") return { kind: "in-list", operand, list };
    if (isSame && operand.type.base === element.base) return { kind: "in-list", operand, list };
    if (isSame && element.base === "decimal") return { kind: "in-list", operand: asDecimal(operand), list };
    const facts = { left: operand.type.label, right: list.type.label, op: "in" };
    this.#scope.problems.add("type-mismatch", facts, this.#scope.path, node.at);
    return never;
  }

  #exists(node: Extract<Condition, { kind: "exists" }>): Expression {
    const { schema, problems, path } = this.#scope;
    const table = schema.tables.get(node.table);
    if (table === undefined) {
      problems.add("unknown-table", { name: node.table, candidates: schema.tables.keys() }, path, node.tableAt);
      return never;
    }
    const inner = new Checker({ ...this.#scope, table }, this.#outer ?? this.#scope.table);
    const condition = inner.condition(node.condition);
    return { kind: "exists", table: table.name, condition, link: findLink(condition) };
  }

  #may(node: Extract<Condition, { kind: "may" }>): Expression {
    const { schema, problems, path, isAction } = this.#scope;
    const operand = this.#operand(node.path);
    const target = operand?.type.target === undefined ? undefined : schema.tables.get(operand.type.target);
    if (operand === undefined) return never;
    if (isAction === undefined) {
      problems.add("misplaced-may", {}, path, node.at);
      return never;
    }
    if (target === undefined || (operand.kind !== "field" && operand.kind !== "outer")) {
      const facts = { table: this.#scope.table.name, field: node.path.names.join("."), label: operand.type.label };
      problems.add("not-a-reference", facts, path, node.path.at);
      return never;
    }
    if (!isAction(node.action, target)) {
      const candidates = ["list", "view", "edit", "delete", "export", "bulk", ...target.actions];
      problems.add("unknown-action", { table: target.name, name: node.action, candidates }, path, node.actionAt);
      return never;
    }
    const isOuter = operand.kind === "outer";
    return { kind: "may", action: node.action, path: operand.path, isOuter, target: target.name };
  }

  #match(node: Extract<Condition, { kind: "match" }>): Expression {
    const operand = this.#operand(node.operand);
    const pattern = this.#operand(node.pattern);
    if (operand === undefined || pattern === undefined) return never;
    for (const side of [operand, pattern]) {
      if (isText(side.type)) continue;
      const facts = { left: operand.type.label, right: pattern.type.label, op: node.how };
      this.#scope.problems.add("type-mismatch", facts, this.#scope.path, node.at);
      return never;
    }
    return { kind: "match", how: node.how, operand, pattern };
  }

  /** Both sides, brought to one type; undefined after a problem. */
  #pair(
    leftSyntax: OperandSyntax,
    rightSyntax: OperandSyntax,
    op: string,
    at: number,
  ): readonly [Operand, Operand] | undefined {
    let left = this.#operand(leftSyntax);
    let right = this.#operand(rightSyntax);
    if (left === undefined || right === undefined) return undefined;
    if (leftSyntax.kind === "null") left = { ...left, type: right.type };
    if (rightSyntax.kind === "null") right = { ...right, type: left.type };
    if (!this.#checkChoice(leftSyntax, right, rightSyntax) || !this.#checkChoice(rightSyntax, left, leftSyntax)) {
      return undefined;
    }
    if (!comparable(left.type, right.type)) {
      const facts = { left: left.type.label, right: right.type.label, op };
      this.#scope.problems.add("type-mismatch", facts, this.#scope.path, at);
      return undefined;
    }
    if (left.type.base === right.type.base) return [left, right];
    if (left.type.base === "integer" && right.type.base === "decimal") return [asDecimal(left), right];
    if (left.type.base === "decimal" && right.type.base === "integer") return [left, asDecimal(right)];
    return [left, right];
  }

  #checkChoice(literal: OperandSyntax, other: Operand, otherSyntax: OperandSyntax): boolean {
    const { choices } = other.type;
    if (literal.kind !== "text" || choices === undefined || choices.includes(literal.value)) return true;
    const field = otherSyntax.kind === "path" ? `"${otherSyntax.names.join(".")}"` : "this choice";
    const facts = { name: literal.value, candidates: choices, field };
    this.#scope.problems.add("unknown-choice", facts, this.#scope.path, literal.at);
    return false;
  }

  #operand(node: OperandSyntax): Operand | undefined {
    switch (node.kind) {
      case "text":
        return { kind: "constant", type: scalarTypes.text, value: node.value };
      case "boolean":
        return { kind: "constant", type: scalarTypes.boolean, value: node.value };
      case "null":
        return { kind: "constant", type: scalarTypes.text, value: null };
      case "number":
        return this.#number(node.digits, node.at);
      case "date":
      case "timestamp": {
        const type = scalarTypes[node.kind];
        const value = type.canonical(node.value);
        if (value !== undefined) return { kind: "constant", type, value };
        const facts = { expects: type.expects, found: `'${node.value}'` };
        this.#scope.problems.add("bad-literal", facts, this.#scope.path, node.at);
        return undefined;
      }
      case "today":
        return { kind: "today", type: scalarTypes.date };
      case "shift": {
        const operand = this.#operand(node.operand);
        if (operand === undefined) return undefined;
        const { base } = operand.type;
        if (base === "timestamp" || (base === "date" && node.unit === "day")) {
          return { kind: "shift", type: operand.type, operand, amount: node.amount, unit: node.unit };
        }
        const facts = { label: operand.type.label, unit: `${node.unit}s` };
        this.#scope.problems.add("bad-duration", facts, this.#scope.path, node.at);
        return undefined;
      }
      case "path":
        return this.#path(node);
      default:
        return node satisfies never;
    }
  }

  #number(digits: string, at: number): Operand | undefined {
    const whole = Number(digits);
    if (!digits.includes(".") && Number.isSafeInteger(whole)) {
      return { kind: "constant", type: scalarTypes.integer, value: scalarTypes.integer.canonical(whole) ?? null };
    }
    const value = scalarTypes.decimal.canonical(digits);
    if (value !== undefined) return { kind: "constant", type: scalarTypes.decimal, value };
    const facts = { expects: `a number of at most ${limits.decimalDigits} digits`, found: `${digits.slice(0, 20)}...` };
    this.#scope.problems.add("bad-literal", facts, this.#scope.path, at);
    return undefined;
  }

  #path(node: PathSyntax): Operand | undefined {
    const { schema, table, problems, path } = this.#scope;
    switch (node.root) {
      case "record":
        return this.#fieldOperand(this.#steps(table, node));
      case "this": {
        const own = this.#outer ?? table;
        const kind = this.#outer === undefined ? "field" : "outer";
        if (node.names.length > 0) return this.#fieldOperand(this.#steps(own, node), kind);
        return { kind, type: reference(own.name, own.address.type), path: [own.address] };
      }
      case "owner": {
        if (table.owner === undefined || schema.people === undefined) {
          problems.add("no-owner", { table: table.name }, path, node.at);
          return undefined;
        }
        const [first, ...rest] = table.owner;
        if (node.names.length === 0) {
          return { kind: "field", type: personType(schema.people.table, table.owner), path: table.owner };
        }
        if (lastOf(table.owner).type.element !== undefined) {
          const facts = { table: table.name, field: "owner", label: lastOf(table.owner).type.label };
          problems.add("not-a-reference", facts, path, node.at);
          return undefined;
        }
        const further = this.#steps(schema.people.table, node);
        return further && this.#fieldOperand([first, ...rest, ...further]);
      }
      case "me": {
        const people = schema.people?.table;
        const key = people && singleKey(people);
        if (people === undefined || key === undefined) {
          problems.add("no-people", { what: '"me"' }, path, node.at);
          return undefined;
        }
        if (node.names.length === 0) return { kind: "me", type: reference(people.name, key.type), path: [key] };
        const steps = this.#steps(people, node);
        return steps && { kind: "me", type: lastOf(steps).type, path: steps };
      }
      case "request":
        return this.#request(node);
      default:
        return node.root satisfies never;
    }
  }

  #fieldOperand(steps: FieldPath | undefined, kind: "field" | "outer" = "field"): Operand | undefined {
    return steps && { kind, type: lastOf(steps).type, path: steps };
  }

  #request(node: PathSyntax): Operand | undefined {
    const { schema, problems, path } = this.#scope;
    const [name, ...rest] = node.names;
    const type = name === "now" ? scalarTypes.timestamp : schema.request.get(name ?? "");
    if (name !== undefined && type !== undefined && rest.length === 0) return { kind: "request", type, name };
    const candidates = ["now", ...schema.request.keys()];
    problems.add("unknown-request", { name: node.names.join("."), candidates }, path, node.places[0] ?? node.at);
    return undefined;
  }

  /** Follows a path's names from a table; every one but the last must be a reference. */
  #steps(from: Table, node: PathSyntax): FieldPath | undefined {
    const { schema, problems, path } = this.#scope;
    const steps: Field[] = [];
    let table = from;
    for (const [index, name] of node.names.entries()) {
      const at = node.places[index] ?? node.at;
      const field = table.byName.get(name);
      if (field === undefined) {
        problems.add("unknown-field", { table: table.name, name, candidates: table.byName.keys() }, path, at);
        return undefined;
      }
      steps.push(...writtenOut(field));
      if (index === node.names.length - 1) break;
      const next = field.type.target === undefined ? undefined : schema.tables.get(field.type.target);
      if (next === undefined) {
        problems.add("not-a-reference", { table: table.name, field: name, label: field.type.label }, path, at);
        return undefined;
      }
      table = next;
    }
    const [first, ...rest] = steps;
    return first && [first, ...rest];
  }
}

/** The type of a path that leads to a person or persons: a reference, also where it is the people's own key. */
export function personType(people: Table, path: FieldPath): FieldType {
  const { type } = lastOf(path);
  return type.target === undefined && type.element === undefined ? reference(people.name, type) : type;
}

/** A demand of the condition as a whole that its table's field is a value from outside: how the records are found. */
function findLink(condition: Expression): Extract<Expression, { kind: "exists" }>["link"] {
  const demands = condition.kind === "and" ? condition.terms : [condition];
  for (const demand of demands) {
    if (demand.kind !== "compare" || demand.op !== "=") continue;
    for (const [inner, value] of [
      [demand.left, demand.right],
      [demand.right, demand.left],
    ] as const) {
      const isOutside = value.kind === "outer" || value.kind === "me" || value.kind === "request";
      if (inner.kind !== "field" || inner.path.length > 1 || inner.type.target === undefined || !isOutside) continue;
      return { field: inner.path[0], value };
    }
  }
  return undefined;
}

/** Types that one comparison may hold against each other; a choice counts as text, a reference as its target's key. */
function comparable(left: FieldType, right: FieldType): boolean {
  if (left.base === "json" || right.base === "json") return false;
  if (left.element !== undefined && right.element !== undefined) {
    return left.element.base === right.element.base && comparable(left.element, right.element);
  }
  if (left.target !== undefined && right.target !== undefined) return left.target === right.target;
  return group(left) === group(right);
}

function group(type: FieldType): string {
  if (type.base === "choice") return "text";
  return type.base === "integer" || type.base === "decimal" ? "number" : type.base;
}

function isText(type: FieldType): boolean {
  return group(type) === "text";
}

function asDecimal(operand: Operand): Operand {
  const type = scalarTypes.decimal;
  if (operand.kind !== "constant") return { kind: "as-decimal", type, operand };
  return { kind: "constant", type, value: operand.value === null ? null : String(operand.value) };
}
