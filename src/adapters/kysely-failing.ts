import type { OperationNode } from "kysely";

type Node = OperationNode & Readonly<Record<string, unknown>>;

/** Operators that give an answer for whatever values. */
const totalOperators: ReadonlySet<string> = new Set(
  ["=", "==", "!=", "<>", ">", ">=", "<", "<=", "in", "not in", "is", "is not", "between", "between symmetric"].concat([
    "like",
    "not like",
    "ilike",
    "not ilike",
    "is distinct from",
    "is not distinct from",
    "exists",
    "not exists",
    "not",
  ]),
);

/** Functions that do. */
const totalFunctions: ReadonlySet<string> = new Set(
  `avg char_length coalesce concat concat_ws count cume_dist dense_rank first_value greatest group_concat lag last_value lead
   least length lower ltrim max min now nullif percent_rank rank row_number rtrim string_agg trim upper`.split(/\s+/),
);

/**
 * Whether a statement holds something that can fail on some value. A database may try it on records that a person does not
 * see, before the condition that hides them: then whether it fails tells of them. `original`: what a part was before it was
 * rewritten, as a select that stands in the statement is.
 */
export function canFail(node: OperationNode, original: (node: OperationNode) => OperationNode): boolean {
  const one = original(node) as Node;
  switch (one.kind) {
    case "ValueNode":
    case "PrimitiveValueListNode":
      return false;
    case "RawNode":
    case "CastNode":
    case "JSONReferenceNode":
    case "JSONOperatorChainNode":
      return true;
    case "OperatorNode":
      return !totalOperators.has(String(one["operator"]));
    case "FunctionNode":
    case "AggregateFunctionNode":
      if (!totalFunctions.has(String(one["func"]).toLowerCase())) return true;
      break;
    case "BinaryOperationNode":
      if (isPartialBinary(one)) return true;
      break;
    case "OrderByItemNode":
      // Its direction is a word.
      return isNode(one["orderBy"]) && canFail(one["orderBy"], original);
  }
  return Object.values(one).some((value) => [value].flat().some((part) => isNode(part) && canFail(part, original)));
}

/** A pattern that ends in its escape fails; so does a select that finds two values where one is compared. */
function isPartialBinary({ operator, leftOperand, rightOperand }: Node): boolean {
  const name = String((operator as { operator?: unknown } | undefined)?.operator);
  if (name.includes("like")) {
    const { kind, value } = rightOperand as { kind: string; value?: unknown };
    if (kind !== "ValueNode" || typeof value !== "string" || value.endsWith("\\")) return true;
  }
  if (name === "in" || name === "not in") return isSelect(leftOperand);
  return isSelect(leftOperand) || isSelect(rightOperand);
}

function isSelect(value: unknown): boolean {
  if (!isNode(value)) return false;
  return value.kind === "SelectQueryNode" || (value.kind === "ParensNode" && isSelect(value["node"]));
}

function isNode(value: unknown): value is Node {
  return typeof value === "object" && value !== null && typeof (value as { kind?: unknown }).kind === "string";
}
