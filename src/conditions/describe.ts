import { type FieldPath, printFieldPath } from "../schema/schema.js";
import type { Expression, Operand } from "./expression.js";
import { printName, printShift } from "./printer.js";
import { truthNames } from "./truth.js";

/** A resolved condition in words close to those it was written in; for explanations, not for parsing. */
export function describeExpression(expression: Expression): string {
  switch (expression.kind) {
    case "truth":
      return truthNames[expression.value];
    case "and":
    case "or":
      return expression.terms
        .map((term) =>
          term.kind === "and" || term.kind === "or" ? `(${describeExpression(term)})` : describeExpression(term),
        )
        .join(` ${expression.kind} `);
    case "not":
      return describeNegated(expression.term);
    case "compare":
      return `${describeOperand(expression.left)} ${expression.op} ${describeOperand(expression.right)}`;
    case "in":
      return describeIn(expression, "in");
    case "match":
      return `${describeOperand(expression.operand)} ${expression.how} ${describeOperand(expression.pattern)}`;
    case "is-null":
      return `${describeOperand(expression.operand)} is null`;
    case "in-list":
      return `${describeOperand(expression.operand)} in ${describeOperand(expression.list)}`;
    case "belongs":
      return `${describePath(expression.path)} = ${describeOperand(expression.subject)}`;
    case "above":
      return `${describeOperand(expression.subject)} above ${describePath(expression.path)}`;
    case "exists":
      return `exists (${printName(expression.table)} where ${describeExpression(expression.condition)})`;
    case "may":
      return `may ${printName(expression.action)} ${describeOperand(expression.key)}`;
    case "open":
      return `me is ${expression.name}`;
    case "person": {
      const text = `${describeOperand(expression.key)} is ${expression.name}`;
      return expression.quantifier === "some" ? text : `not (${text})`;
    }
    case "line": {
      const { direction, levels, condition, quantifier } = expression;
      const where = `${levels === undefined ? "" : `at most ${levels} `}${direction}`;
      return `${quantifier === "some" ? "somebody" : "everybody"} ${where} (${describeExpression(condition)})`;
    }
    default:
      return expression satisfies never;
  }
}

function describeNegated(term: Expression): string {
  if (term.kind === "is-null") return `${describeOperand(term.operand)} is not null`;
  if (term.kind === "in") return describeIn(term, "not in");
  if (term.kind === "in-list") return `${describeOperand(term.operand)} not in ${describeOperand(term.list)}`;
  if (term.kind === "match") return `${describeOperand(term.operand)} not ${term.how} ${describeOperand(term.pattern)}`;
  return `not (${describeExpression(term)})`;
}

function describeIn({ operand, items }: Extract<Expression, { kind: "in" }>, word: string): string {
  return `${describeOperand(operand)} ${word} (${items.map(describeOperand).join(", ")})`;
}

function describePath(path: FieldPath): string {
  return path.map((field, index) => printName(field.name, index === 0)).join(".");
}

export function describeOperand(operand: Operand): string {
  switch (operand.kind) {
    case "constant":
      return operand.value === null ? "null" : operand.type.literal(operand.value);
    case "unreadable":
      return "(unreadable)";
    case "field":
      return describePath(operand.path);
    case "outer":
      return isOwnAddress(operand) ? "this" : `this.${printFieldPath(operand.path)}`;
    case "around":
      return printFieldPath(operand.path);
    case "held":
      return `${operand.role} of`;
    case "me":
      return isOwnAddress(operand) ? "me" : `me.${printFieldPath(operand.path)}`;
    case "request":
      return `request.${operand.name}`;
    case "today":
      return "today";
    case "shift":
      return `${describeOperand(operand.operand)} ${printShift(operand.amount, operand.unit)}`;
    case "as-decimal":
    case "as-address":
      return describeOperand(operand.operand);
    default:
      return operand satisfies never;
  }
}

/** Whether a path is the key of the record that it is read from: `me` alone, `this` alone. */
function isOwnAddress({ path, type }: Extract<Operand, { kind: "me" | "outer" }>): boolean {
  // The operand for the key alone is a reference to its table, whatever type the key has.
  return path.length === 1 && type !== path[0].type;
}
