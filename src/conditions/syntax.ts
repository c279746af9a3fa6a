/**
 * The syntax tree of a condition: plain data, one `kind` per node. `at` is the offset of the node's first character in
 * the text it was read from; it has no meaning of its own and is 0 in trees that were made by hand.
 */
export type Condition =
  | { readonly kind: "truth"; readonly value: boolean; readonly at: number }
  | { readonly kind: "and" | "or"; readonly terms: readonly Condition[]; readonly at: number }
  | { readonly kind: "not"; readonly term: Condition; readonly at: number }
  | Comparison
  | {
      readonly kind: "in";
      readonly negated: boolean;
      readonly operand: OperandSyntax;
      readonly items: readonly OperandSyntax[];
      readonly at: number;
    }
  | {
      readonly kind: "in-list";
      readonly negated: boolean;
      readonly operand: OperandSyntax;
      readonly list: PathSyntax;
      readonly at: number;
    }
  | {
      readonly kind: "between";
      readonly negated: boolean;
      readonly operand: OperandSyntax;
      readonly low: OperandSyntax;
      readonly high: OperandSyntax;
      readonly at: number;
    }
  | {
      readonly kind: "match";
      readonly how: MatchWord;
      readonly negated: boolean;
      readonly operand: OperandSyntax;
      readonly pattern: OperandSyntax;
      readonly at: number;
    }
  | { readonly kind: "is-null"; readonly negated: boolean; readonly operand: OperandSyntax; readonly at: number }
  | {
      readonly kind: "exists";
      readonly table: string;
      readonly tableAt: number;
      readonly condition: Condition;
      readonly at: number;
    }
  | {
      readonly kind: "may";
      readonly action: string;
      readonly actionAt: number;
      readonly path: PathSyntax;
      readonly at: number;
    }
  /** The person whom `path` leads to holds a role or is in a group: `owner is keeper`, `owner is lead of exhibition`. */
  | {
      readonly kind: "member";
      readonly negated: boolean;
      readonly path: PathSyntax;
      readonly name: string;
      readonly nameAt: number;
      /** Of a scoped role, the path to the record that it is held on. */
      readonly on: PathSyntax | undefined;
      readonly at: number;
    };

export interface Comparison {
  readonly kind: "compare";
  readonly op: ComparisonOp;
  readonly left: OperandSyntax;
  readonly right: OperandSyntax;
  readonly at: number;
}

export const comparisonOps = ["=", "<>", "<", "<=", ">", ">="] as const;
/** An operator that compares two values. */
export type ComparisonOp = (typeof comparisonOps)[number];

/** The comparison that says the same with its sides exchanged. */
export const turnedOps: Readonly<Record<ComparisonOp, ComparisonOp>> = {
  "=": "=",
  "<>": "<>",
  "<": ">",
  "<=": ">=",
  ">": "<",
  ">=": "<=",
};

export const matchWords = ["like", "starts with", "ends with", "contains"] as const;
/** An operator that compares a text with a pattern. */
export type MatchWord = (typeof matchWords)[number];

export type OperandSyntax =
  | { readonly kind: "text"; readonly value: string; readonly at: number }
  /** Digits as written, with `-` in front when negative. */
  | { readonly kind: "number"; readonly digits: string; readonly at: number }
  | { readonly kind: "boolean"; readonly value: boolean; readonly at: number }
  | { readonly kind: "null"; readonly at: number }
  | { readonly kind: "date" | "timestamp"; readonly value: string; readonly at: number }
  | { readonly kind: "today"; readonly at: number }
  | {
      readonly kind: "shift";
      readonly operand: OperandSyntax;
      readonly amount: number;
      readonly unit: DurationUnit;
      readonly at: number;
    }
  | PathSyntax;

export const durationUnits = ["day", "hour", "minute"] as const;
/** A unit of a shift: `today - 30 days`. */
export type DurationUnit = (typeof durationUnits)[number];

export const pathRoots = ["me", "request", "this", "owner"] as const;
export type PathRoot = (typeof pathRoots)[number] | "record";

/** Names read one after the other, from the record itself (`record`) or from a word such as `me`. */
export interface PathSyntax {
  readonly kind: "path";
  readonly root: PathRoot;
  /** Empty only where the root stands alone: `me`. */
  readonly names: readonly string[];
  /** Offset of each name. */
  readonly places: readonly number[];
  readonly at: number;
}

/** Words that need quotes to be a name at the start of an operand. */
export const reservedWords: ReadonlySet<string> = new Set(
  "me this owner request today true false null not exists may and or in between like contains is where".split(" "),
);

/** Calls `visit` for every condition and operand in a condition, itself first. */
export function visitSyntax(node: Condition | OperandSyntax, visit: (node: Condition | OperandSyntax) => void): void {
  visit(node);
  for (const part of partsOf(node)) visitSyntax(part, visit);
}

/** What stands directly in a condition or operand. */
export function partsOf(node: Condition | OperandSyntax): readonly (Condition | OperandSyntax)[] {
  switch (node.kind) {
    case "and":
    case "or":
      return node.terms;
    case "not":
      return [node.term];
    case "compare":
      return [node.left, node.right];
    case "in":
      return [node.operand, ...node.items];
    case "in-list":
      return [node.operand, node.list];
    case "between":
      return [node.operand, node.low, node.high];
    case "match":
      return [node.operand, node.pattern];
    case "is-null":
    case "shift":
      return [node.operand];
    case "exists":
      return [node.condition];
    case "may":
      return [node.path];
    case "member":
      return node.on === undefined ? [node.path] : [node.path, node.on];
    case "truth":
    case "text":
    case "number":
    case "boolean":
    case "null":
    case "date":
    case "timestamp":
    case "today":
    case "path":
      return [];
    default:
      return node satisfies never;
  }
}
