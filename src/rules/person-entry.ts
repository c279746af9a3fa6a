import { personType } from "../conditions/comparable.js";
import { and, type Expression, not, type Operand } from "../conditions/expression.js";
import type { Scalar } from "../schema/scalar.js";
import { type Schema, singleKey } from "../schema/schema.js";

/** The key in `person KEY`, as it is written; undefined for another entry. */
export function personEntry(text: string): string | undefined {
  return /^person\s+(.*)$/s.exec(text)?.[1]?.trim();
}

/** A person's key from how it is written; undefined where persons have no such keys. */
export function personKeyIn(written: string, { people }: Schema): Scalar | undefined {
  const type = people && singleKey(people.table)?.type;
  return type?.canonical(written) ?? (type?.base === "integer" ? type.canonical(Number(written)) : undefined);
}

/** The current user, as an operand; undefined where the document knows no people. */
export function subjectOf({ people }: Schema): Operand | undefined {
  const key = people && singleKey(people.table);
  if (people === undefined || key === undefined) return undefined;
  return { kind: "me", type: personType(people.table, [key]), path: [key] };
}

/** Whether the current user is that person, whatever the record. */
export function isPerson(key: Scalar, schema: Schema): Expression | undefined {
  const subject = subjectOf(schema);
  const type = schema.people && singleKey(schema.people.table)?.type;
  if (subject === undefined || type === undefined) return undefined;
  // A visitor is not that person: null compares as false here, not as unknown.
  const isSomebody = not({ kind: "is-null", operand: subject });
  return and([isSomebody, { kind: "compare", op: "=", left: subject, right: { kind: "constant", type, value: key } }]);
}
