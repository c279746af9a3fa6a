import {
  type Expression,
  type Operand,
  personConditions,
  visitOperands,
  visitTests,
} from "../conditions/expression.js";

const known = new WeakMap<Expression, ReadonlySet<string>>();

/** What a condition looks at, as names: `record FIELD`, `me FIELD`, and `table NAME` for records of other tables. */
export function readsOf(expression: Expression): ReadonlySet<string> {
  const found = known.get(expression) ?? new Set(namesRead(expression));
  known.set(expression, found);
  return found;
}

function namesRead(expression: Expression): string[] {
  const names: string[] = [];
  visitTests(expression, (test) => {
    if (test.kind === "exists") names.push(`table ${test.table}`, ...namesRead(test.condition));
    // What another table's rules ask is not looked through: it could be anything.
    if (test.kind === "may") names.push(`table ${test.target}`, "may");
    if (test.kind === "above" || test.kind === "line") names.push(`table ${test.line.table}`);
    if (test.kind === "person") names.push(`table ${test.people}`);
    // What is asked of a person's own record is read from the tables that it leads through.
    for (const condition of personConditions(test)) {
      names.push(...namesRead(condition).filter((name) => name.startsWith("table ")));
    }
    if (test.kind === "belongs" || test.kind === "above")
      names.push(...ofOperand({ kind: "field", type: test.subject.type, path: test.path }));
  });
  visitOperands(expression, (operand) => names.push(...ofOperand(operand)));
  return names;
}

function ofOperand(operand: Operand): string[] {
  if (operand.kind === "held") return ["held"];
  if (operand.kind !== "field" && operand.kind !== "outer" && operand.kind !== "around" && operand.kind !== "me")
    return [];
  const [first, ...rest] = operand.path;
  const parts = first.by ?? [first];
  return [
    ...parts.map(({ name }) => `${operand.kind === "me" ? "me" : "record"} ${name}`),
    ...rest.map(({ table }) => `table ${table}`),
  ];
}
