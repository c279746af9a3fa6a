import type { Scalar } from "../schema/scalar.js";
import { type FieldPath, lastOf, type Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { list, listElements } from "../schema/types/list.js";
import { reference } from "../schema/types/reference.js";
import { scalarTypes } from "../schema/types/scalars.js";
import type { Expression, Operand } from "./expression.js";

/** The type of a path that leads to a person or persons: a reference, also where it is the people's own key. */
export function personType(people: Table, path: FieldPath): FieldType {
  const { type } = lastOf(path);
  return type.target === undefined && type.element === undefined ? reference(people.name, type) : type;
}

/** A demand of the condition as a whole that its table's field is a value from outside: how the records are found. */
export function findLink(condition: Expression): Extract<Expression, { kind: "exists" }>["link"] {
  const demands = condition.kind === "and" ? condition.terms : [condition];
  const links = demands.flatMap((demand) => {
    if (demand.kind !== "compare" || demand.op !== "=") return [];
    const { left, right } = demand;
    return [
      [left, right],
      [right, left],
    ].flatMap(([inner, value]) => {
      const isOutside =
        value?.kind === "outer" || value?.kind === "around" || value?.kind === "me" || value?.kind === "request";
      return isOutside && inner?.kind === "field" ? [{ path: inner.path, value }] : [];
    });
  });
  return links.find(({ path }) => isReference(path)) ?? links[0];
}

/** Whether a path is a reference of the record itself, by which every source finds records. */
export function isReference(path: FieldPath): boolean {
  return path.length === 1 && path[0].type.target !== undefined;
}

/** Types that one comparison may hold against each other; a choice counts as text, a reference as its target's key. */
export function comparable(left: FieldType, right: FieldType): boolean {
  if (left.base === "json" || right.base === "json") return false;
  if (left.element !== undefined && right.element !== undefined) {
    return left.element.base === right.element.base && comparable(left.element, right.element);
  }
  if (left.target !== undefined && right.target !== undefined) return left.target === right.target;
  return comparisonGroup(left) === comparisonGroup(right);
}

export function comparisonGroup(type: FieldType): string {
  if (type.base === "choice") return "text";
  return type.base === "integer" || type.base === "decimal" ? "number" : type.base;
}

export function isText(type: FieldType): boolean {
  return comparisonGroup(type) === "text";
}

/** An integer as a decimal, or a list of them. */
export function asDecimal(operand: Operand): Operand {
  const type = operand.type.element === undefined ? scalarTypes.decimal : list(scalarTypes.decimal);
  if (operand.kind !== "constant") return { kind: "as-decimal", type, operand };
  return { kind: "constant", type, value: operand.value === null ? null : decimalOf(operand.value, type) };
}

/** A canonical integer, or list of them, as a canonical decimal. */
export function decimalOf(value: Scalar, { element }: FieldType): Scalar {
  return element === undefined ? String(value) : JSON.stringify(listElements(value).map(String));
}
