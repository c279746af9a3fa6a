import { quoteText } from "../schema/scalar.js";
import { type Condition, type OperandSyntax, type PathSyntax, reservedWords } from "./syntax.js";

/** The canonical text of a condition: `parseCondition(printCondition(c))` gives `c` back. */
export function printCondition(condition: Condition): string {
  switch (condition.kind) {
    case "truth":
      return String(condition.value);
    case "or":
      return condition.terms
        .map((term) => (term.kind === "or" ? inParentheses(term) : printCondition(term)))
        .join(" or ");
    case "and":
      return condition.terms
        .map((term) => (term.kind === "or" || term.kind === "and" ? inParentheses(term) : printCondition(term)))
        .join(" and ");
    case "not": {
      const { kind } = condition.term;
      const loose = kind === "or" || kind === "and" || kind === "not";
      return `not ${loose ? inParentheses(condition.term) : printCondition(condition.term)}`;
    }
    case "compare":
      return `${printOperand(condition.left)} ${condition.op} ${printOperand(condition.right)}`;
    case "in":
      return `${printOperand(condition.operand)} ${negation(condition)}in (${condition.items.map(printOperand).join(", ")})`;
    case "in-list":
      return `${printOperand(condition.operand)} ${negation(condition)}in ${printPath(condition.list)}`;
    case "between":
      return `${printOperand(condition.operand)} ${negation(condition)}between ${printOperand(condition.low)} and ${printOperand(condition.high)}`;
    case "match":
      return `${printOperand(condition.operand)} ${negation(condition)}${condition.how} ${printOperand(condition.pattern)}`;
    case "is-null":
      return `${printOperand(condition.operand)} is ${negation(condition)}null`;
    case "exists":
      return `exists (${printName(condition.table)} where ${printCondition(condition.condition)})`;
    case "member": {
      const scope = condition.on === undefined ? "" : ` of ${printPath(condition.on)}`;
      return `${printPath(condition.path)} is ${negation(condition)}${printName(condition.name, true)}${scope}`;
    }
    case "may":
      return `may ${printName(condition.action)} ${printPath(condition.path)}`;
    default:
      return condition satisfies never;
  }
}

function inParentheses(condition: Condition): string {
  return `(${printCondition(condition)})`;
}

function negation({ negated }: { readonly negated: boolean }): string {
  return negated ? "not " : "";
}

export function printOperand(operand: OperandSyntax): string {
  switch (operand.kind) {
    case "text":
      return quoteText(operand.value);
    case "number":
      return operand.digits;
    case "boolean":
      return String(operand.value);
    case "null":
    case "today":
      return operand.kind;
    case "date":
    case "timestamp":
      return `${operand.kind} ${quoteText(operand.value)}`;
    case "shift":
      return `${printOperand(operand.operand)} ${printShift(operand.amount, operand.unit)}`;
    case "path":
      return printPath(operand);
    default:
      return operand satisfies never;
  }
}

/** `+ 3 days`, `- 1 hour`. */
export function printShift(amount: number, unit: string): string {
  const size = Math.abs(amount);
  return `${amount < 0 ? "-" : "+"} ${size} ${unit}${size === 1 ? "" : "s"}`;
}

export function printPath(path: PathSyntax): string {
  const names = path.names.map((name, index) => printName(name, path.root === "record" && index === 0));
  return (path.root === "record" ? names : [path.root, ...names]).join(".");
}

/** A name, in double quotes where the grammar needs them. */
export function printName(name: string, first = false): string {
  const plain = /^[\p{L}_][\p{L}\p{Nd}_]*$/u.test(name) && !(first && reservedWords.has(name.toLowerCase()));
  return plain ? name : `"${name.replaceAll('"', '""')}"`;
}
