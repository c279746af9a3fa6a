import {
  type Expression,
  isMade,
  type Operand,
  operandsOf,
  operandsWithin,
  personConditions,
  type SessionOperand,
  visitTests,
} from "../conditions/expression.js";
import { isSessionOperand, sessionOperandName } from "../conditions/session-operand.js";
import type { Rule } from "./rule.js";

/** What the rules ask of a session. */
export interface SessionOperands {
  /** Each once, by its name: the parts of a person or request that decisions depend on. */
  readonly all: ReadonlyMap<string, SessionOperand>;
  /**
   * Those that are only compared with what is in records, each with its place among a session's values: rules come to the
   * same for everybody who has any value there, and a plan leaves them open.
   */
  readonly slots: ReadonlyMap<string, number>;
}

export function collectSessionOperands(rules: readonly Rule[]): SessionOperands {
  return collectOperands(
    rules.flatMap(({ where, becomes, to, except }) => [
      where,
      ...(becomes === undefined ? [] : [becomes]),
      ...[...to, ...except].flatMap((who) => (who.kind === "related" ? [who.met] : [])),
    ]),
  );
}

/** The same for some conditions. */
export function collectOperands(conditions: readonly Expression[]): SessionOperands {
  const all = new Map<string, SessionOperand>();
  const compared = new Set<string>();
  const used = new Set<string>();
  const visit = (expression: Expression): void =>
    visitTests(expression, (test) => {
      if (test.kind === "exists") visit(test.condition);
      if (test.kind === "person" && test.here !== undefined) visit(test.here);
      for (const condition of personConditions(test)) visit(condition);
      const open = comparedIn(test);
      for (const operand of operandsWithin(test)) {
        if (!isSessionOperand(operand)) continue;
        const name = sessionOperandName(operand);
        all.set(name, operand);
        (open.includes(operand) ? compared : used).add(name);
      }
    });
  conditions.forEach(visit);
  const left = [...compared].filter((name) => !used.has(name));
  return { all, slots: new Map(left.map((name, slot) => [name, slot])) };
}

/** The operands of a test that are nothing but compared with what is in a record. */
function comparedIn(test: Expression): readonly Operand[] {
  switch (test.kind) {
    case "compare":
      return [test.left, test.right].filter(
        (one, side, sides) => isSingle(one) && isOfRecord(sides[1 - side] as Operand),
      );
    case "belongs":
    case "above":
      return isSingle(test.subject) ? [test.subject] : [];
    case "in-list":
      return isSingle(test.operand) && isOfRecord(test.list) ? [test.operand] : [];
    case "person":
      return operandsOf(test).filter(isSingle);
    case "exists":
      // The demand that finds the candidates stands in the condition, too.
      return operandsOf(test).filter(isSingle);
    default:
      return [];
  }
}

function isSingle({ type }: Operand): boolean {
  return type.base !== "list" && type.base !== "json";
}

function isOfRecord(operand: Operand): boolean {
  if (isMade(operand)) return isOfRecord(operand.operand);
  return operand.kind === "field" || operand.kind === "outer" || operand.kind === "around";
}
