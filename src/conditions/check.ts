import { limits } from "../schema/limits.js";
import { lastOf, type Role, singleKey, type Table } from "../schema/schema.js";
import { list } from "../schema/types/list.js";
import { scalarTypes } from "../schema/types/scalars.js";
import { asDecimal, comparable, comparisonGroup, findLink, isText } from "./comparable.js";
import { always, and, type Expression, never, not, type Operand, or } from "./expression.js";
import { parseCondition } from "./parser.js";
import { printName, printPath } from "./printer.js";
import { PathResolver, type PersonMembers, type Scope } from "./resolve.js";
import { addShifts, shiftedOperand } from "./shift.js";
import type { Condition, OperandSyntax, PathSyntax } from "./syntax.js";
import { Unknown } from "./truth.js";

/** Parses a condition and resolves it in its scope. After a problem the answer is undefined and the problem is listed. */
export function readCondition(source: string, scope: Scope): Expression | undefined {
  const parsed = parseCondition(source);
  if ("problems" in parsed) {
    for (const { code, at, found, expected } of parsed.problems) {
      if (code === "condition-depth") scope.problems.add(code, { limit: limits.conditionDepth }, scope.path, at);
      else scope.problems.add(code, { found, expected }, scope.path, at);
    }
    return undefined;
  }
  const before = scope.problems.list.length;
  const expression = new Checker(scope).condition(parsed.condition);
  return scope.problems.list.length === before ? expression : undefined;
}

const heldType = list(scalarTypes.text);

/** `me` alone: the current user, of whom more is known than what is stored. */
function isMe({ root, names }: PathSyntax): boolean {
  return root === "me" && names.length === 0;
}

class Checker {
  readonly #scope: Scope;
  /** Inside `exists`: the table of the record that the rule is about, which `this` leads to. */
  readonly #outer: Table | undefined;

  readonly #paths: PathResolver;

  constructor(scope: Scope, outer?: Table) {
    this.#scope = scope;
    this.#outer = outer;
    this.#paths = new PathResolver(scope, outer);
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
      case "member":
        return this.#negate(node.negated, this.#member(node));
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
        this.#scope.problems.add("not-ordered", { label: operand.type.noun, op }, this.#scope.path, syntax.at);
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
    if (!this.#checkChoice(node.operand, { ...list, type: element }, node.list)) return never;
    if (node.operand.kind === "null") return { kind: "truth", value: Unknown };
    const isSame = comparable(operand.type, element) && operand.type.base !== "list";
    if (isSame && comparisonGroup(operand.type) !== "number") return { kind: "in-list", operand, list };
    if (isSame && operand.type.base === element.base) return { kind: "in-list", operand, list };
    if (isSame && element.base === "decimal") return { kind: "in-list", operand: asDecimal(operand), list };
    if (isSame) return { kind: "in-list", operand, list: asDecimal(list) };
    const facts = { left: operand.type.noun, right: list.type.noun, op: "in" };
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
    if (target === undefined) {
      const facts = { table: this.#scope.table.name, field: node.path.names.join("."), label: operand.type.noun };
      problems.add("not-a-reference", facts, path, node.path.at);
      return never;
    }
    if (!isAction(node.action, target)) {
      const candidates = ["list", "view", "edit", "delete", "export", "bulk", ...target.actions];
      problems.add("unknown-action", { table: target.name, name: node.action, candidates }, path, node.actionAt);
      return never;
    }
    return { kind: "may", action: node.action, key: operand, target: target.name };
  }

  /** `PATH is NAME`, `PATH is ROLE of PATH`. */
  #member(node: Extract<Condition, { kind: "member" }>): Expression {
    const { schema, problems, path, members } = this.#scope;
    const person = this.#operand(node.path);
    if (person === undefined) return never;
    if (members === undefined) {
      problems.add("misplaced-member", { name: node.name }, path, node.at);
      return never;
    }
    const { type } = person;
    const people = schema.people?.table;
    const isKey = "path" in person && people !== undefined && lastOf(person.path) === singleKey(people);
    const target = isKey ? people.name : (type.target ?? type.element?.target);
    if (people === undefined || target !== people.name) {
      problems.add("not-a-person", { what: printPath(node.path), people: people?.name }, path, node.path.at);
      return never;
    }
    const role = schema.roles.get(node.name);
    if (role === undefined && !members.groups.has(node.name)) {
      const candidates = [...schema.roles.keys(), ...members.groups];
      problems.add("unknown-who", { name: node.name, candidates }, path, node.nameAt);
      return never;
    }
    if (node.on !== undefined || role?.scope !== undefined) return this.#holdsOn(node, role, person, members);
    if (isMe(node.path) && members.ofMe !== undefined) return members.ofMe(node.name);
    if (isMe(node.path)) {
      problems.add("misplaced-member", { name: node.name }, path, node.at);
      return never;
    }
    return {
      kind: "person",
      key: person,
      people: people.name,
      member: node.name,
      name: printName(node.name, true),
      condition: members.of(node.name),
      here: undefined,
      quantifier: "some",
    };
  }

  #holdsOn(
    node: Extract<Condition, { kind: "member" }>,
    role: Role | undefined,
    person: Operand,
    members: PersonMembers,
  ): Expression {
    const { problems, path } = this.#scope;
    if (role?.scope === undefined) {
      problems.add("unscoped-role", { role: node.name }, path, node.nameAt);
      return never;
    }
    if (node.on === undefined) {
      problems.add("scoped-role", { role: node.name, scope: role.scope }, path, node.nameAt);
      return never;
    }
    const record = this.#operand(node.on);
    if (record === undefined) return never;
    if (record.type.target !== role.scope) {
      const where = `"${node.name} of ${printPath(node.on)}"`;
      problems.add("wrong-scope", { role: node.name, scope: role.scope, where }, path, node.on.at);
      return never;
    }
    if (person.type.element !== undefined) {
      const facts = { expected: "a path to one person", found: "a list of persons", what: `"${node.name} of"` };
      problems.add("wrong-shape", facts, path, node.path.at);
      return never;
    }
    if (!isMe(node.path)) return members.holdsOn(role, person, record);
    if (record.kind === "field" && members.ofMe !== undefined) {
      return { kind: "belongs", path: record.path, subject: { kind: "held", type: heldType, role: role.name } };
    }
    problems.add("misplaced-member", { name: node.name }, path, node.at);
    return never;
  }

  #match(node: Extract<Condition, { kind: "match" }>): Expression {
    const operand = this.#operand(node.operand);
    const pattern = this.#operand(node.pattern);
    if (operand === undefined || pattern === undefined) return never;
    for (const side of [operand, pattern]) {
      if (isText(side.type)) continue;
      const facts = { left: operand.type.noun, right: pattern.type.noun, op: node.how };
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
      const facts = { left: left.type.noun, right: right.type.noun, op };
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
        const { inner, shifts } = shiftedOperand(node);
        const operand = this.#operand(inner);
        if (operand === undefined) return undefined;
        const { base } = operand.type;
        const wrong = shifts.find(({ unit }) => base !== "timestamp" && (base !== "date" || unit !== "day"));
        if (wrong === undefined) return addShifts(operand, shifts);
        const facts = { label: operand.type.noun, unit: `${wrong.unit}s` };
        this.#scope.problems.add("bad-duration", facts, this.#scope.path, wrong.at);
        return undefined;
      }
      case "path":
        return this.#paths.resolve(node);
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
}
