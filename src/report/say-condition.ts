import { type Expression, type LineTest, type Operand, pushNots } from "../conditions/expression.js";
import { type ComparisonOp, turnedOps } from "../conditions/syntax.js";
import { True } from "../conditions/truth.js";
import { type FieldPath, findTable, type Schema } from "../schema/schema.js";

/** A condition in plain words, to be read behind "where": `Department is the person's Department and Status is "shown"`. */
export function sayCondition(condition: Expression, schema: Schema): string {
  return say(pushNots(condition), schema);
}

function say(expression: Expression, schema: Schema): string {
  switch (expression.kind) {
    case "truth":
      return expression.value === True ? "always" : "never";
    case "and":
    case "or":
      return expression.terms
        .map((term) => (term.kind === "and" || term.kind === "or" ? `(${say(term, schema)})` : say(term, schema)))
        .join(` ${expression.kind} `);
    case "not":
      return sayTest(expression.term, true, schema);
    default:
      return sayTest(expression, false, schema);
  }
}

function sayTest(test: Expression, isNegated: boolean, schema: Schema): string {
  const is = isNegated ? "is not" : "is";
  switch (test.kind) {
    case "compare": {
      const turned = isPersons(test.left) && !isPersons(test.right);
      const [left, right] = turned ? [test.right, test.left] : [test.left, test.right];
      return `${sayOperand(left)} ${comparisons(right)[turned ? turnedOps[test.op] : test.op][isNegated ? 1 : 0]} ${sayOperand(right)}`;
    }
    case "in":
      return `${sayOperand(test.operand)} ${is} ${listed(test.items.map(sayOperand), "or")}`;
    case "in-list":
      return `${sayOperand(test.operand)} ${is} among ${sayOperand(test.list)}`;
    case "match":
      return `${sayOperand(test.operand)} ${matches[test.how][isNegated ? 1 : 0]} ${sayOperand(test.pattern)}`;
    case "is-null":
      return `${sayOperand(test.operand)} ${is} empty`;
    case "belongs":
      if (test.subject.kind === "held") return `the person ${is} ${test.subject.role} of ${sayPath(test.path)}`;
      return `${sayPath(test.path)} ${is} the person`;
    case "above":
      return `the person ${is} above ${sayPath(test.path)}`;
    case "exists":
      return `there ${is} ${isNegated ? "any" : "a"} record of ${findTable(schema, test.table)?.label ?? test.table} of which ${say(pushNots(test.condition), schema)}`;
    case "may":
      return `the person may ${isNegated ? "not " : ""}${test.action} ${test.key.kind === "field" ? "its " : ""}${sayOperand(test.key)}`;
    case "open":
      return `the person ${is} ${test.name}`;
    case "person": {
      const isSome = test.quantifier === "some" && !isNegated;
      return `${sayOperand(test.key)} ${isSome ? "is" : "is not"} ${test.name}`;
    }
    case "line": {
      const { condition, quantifier } = test;
      return `${quantifier === "some" ? "somebody" : "everybody"} ${sayDistance(test)} meets: ${say(pushNots(condition), schema)}`;
    }
    case "truth":
    case "and":
    case "or":
    case "not":
      return isNegated ? `it is not so that ${say(test, schema)}` : say(test, schema);
    default:
      return test satisfies never;
  }
}

type Words = Readonly<Record<ComparisonOp, readonly [plain: string, negated: string]>>;

const amounts: Words = {
  "=": ["is", "is not"],
  "<>": ["is not", "is"],
  "<": ["is below", "is not below"],
  "<=": ["is at most", "is not at most"],
  ">": ["is above", "is not above"],
  ">=": ["is at least", "is not at least"],
};

const times: Words = {
  ...amounts,
  "<": ["is before", "is not before"],
  "<=": ["is not after", "is after"],
  ">": ["is after", "is not after"],
  ">=": ["is not before", "is before"],
};

function comparisons({ type }: Operand): Words {
  return type.base === "date" || type.base === "timestamp" ? times : amounts;
}

const matches = {
  like: ["is like", "is not like"],
  "starts with": ["begins with", "does not begin with"],
  "ends with": ["ends with", "does not end with"],
  contains: ["contains", "does not contain"],
} as const;

/** What is known of the person or the request stands on the right, as in "department is the person's department". */
function isPersons(operand: Operand): boolean {
  return ["me", "held", "request", "today", "constant"].includes(operand.kind);
}

function sayOperand(operand: Operand): string {
  switch (operand.kind) {
    case "constant":
      return operand.value === null
        ? "empty"
        : operand.type.base === "text" || operand.type.base === "choice"
          ? `"${String(operand.value)}"`
          : String(operand.value);
    case "unreadable":
      return "something unreadable";
    case "field":
      return sayPath(operand.path);
    case "around":
      return `its ${sayPath(operand.path)}`;
    case "outer":
      return operand.path.length === 1 && operand.type !== operand.path[0].type
        ? "this record"
        : `this record's ${sayPath(operand.path)}`;
    case "me":
      return operand.path.length === 1 && operand.type !== operand.path[0].type
        ? "the person"
        : `the person's ${sayPath(operand.path)}`;
    case "held":
      return `the records whose ${operand.role} the person is`;
    case "request":
      return operand.name === "now" ? "now" : `the request's ${operand.name}`;
    case "today":
      return "today";
    case "shift": {
      const { amount, unit } = operand;
      const many = Math.abs(amount) === 1 ? unit : `${unit}s`;
      return `${Math.abs(amount)} ${many} ${amount < 0 ? "before" : "after"} ${sayOperand(operand.operand)}`;
    }
    case "as-decimal":
    case "as-address":
      return sayOperand(operand.operand);
    default:
      return operand satisfies never;
  }
}

/** `keeper.department` as "Department of its Keeper"; a field alone by its label. */
export function sayPath(path: FieldPath): string {
  if (path.length === 1) return path[0].label;
  return [...path]
    .reverse()
    .map(({ label }) => label)
    .join(" of its ");
}

/** `a`, `a and b`, `a, b and c`. */
export function listed(parts: readonly string[], word: "and" | "or" = "and"): string {
  const last = parts[parts.length - 1];
  return parts.length < 2 ? (last ?? "") : `${parts.slice(0, -1).join(", ")} ${word} ${last}`;
}

/** `below`, `at most 2 levels above`. */
export function sayDistance({ direction, levels }: Pick<LineTest, "direction" | "levels">): string {
  return levels === undefined ? direction : `at most ${levels} level${levels === 1 ? "" : "s"} ${direction}`;
}
