import type { Expression, Operand } from "../conditions/expression.js";
import { Bad, False, True } from "../conditions/truth.js";
import { lastOf } from "../schema/schema.js";
import { hasOpenLine, isBelow } from "./below.js";
import { type Formula, formula, test as single } from "./formula.js";
import { type Fragment, sql } from "./fragment.js";
import { isHeld, isOneOf, keysOf } from "./keys.js";
import type { Scope } from "./scope.js";
import { isNull, leadsTo, type Mode, never } from "./single-test.js";
import type { Joins, Part, Value } from "./value.js";

type TestOf<K extends Expression["kind"]> = Extract<Expression, { readonly kind: K }>;

/** Whether what a path leads to, any of it, is one of the subjects: false, not unknown, where it leads nowhere. */
export function writeBelongs(
  { path, subject }: TestOf<"belongs">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const parts = joins.path(scope.record, path);
  const match = isSubjects(parts, subject, joins, scope);
  if (match === undefined) {
    // It is not known who the current user is: nobody, where the path leads to nobody.
    const value: Value = { kind: "parts", parts };
    if (mode === "bad") return isNegated ? formula("and", []) : isNull(value, true, joins, mode);
    return isNegated ? isNull(value, false, joins, mode) : never;
  }
  const open =
    subject.kind === "held" && scope.subject !== undefined
      ? isOpen(parts, scope.subject.held(subject.role))
      : undefined;
  return forSomebody(leadsTo(joins, parts, match, isNegated, mode, open), subject, scope, isNegated, mode);
}

/** Whether it is not known on what a role is held, while these parts lead to something that it may be. */
function isOpen([only]: readonly Part[], held: Fragment): Fragment | undefined {
  if (only === undefined) return undefined;
  const leads = only.type.element === undefined ? sql`${only.sql} is not null` : sql`cardinality(${only.stored}) > 0`;
  return sql`(${held} is null and ${leads})`;
}

/** Nobody owns anything, or is above anybody, whatever a record holds; a statement for anybody asks that as well. */
function forSomebody(one: Formula, subject: Operand, scope: Scope, isNegated: boolean, mode: Mode): Formula {
  const nobody = isNobody(subject, scope);
  if (nobody === undefined) return one;
  if (isNegated) return formula("or", [single(nobody, true), one]);
  return mode === "true" ? one : formula("and", [single(sql`(${nobody}) is not true`, true), one]);
}

function isNobody(subject: Operand, scope: Scope): Fragment | undefined {
  if (scope.subject === undefined) return undefined;
  // Null where it is not known on what a role is held.
  if (subject.kind === "held") return sql`cardinality(${scope.subject.held(subject.role)}) = 0`;
  return subject.kind === "me" ? sql`${scope.subject.value(subject)} is null` : undefined;
}

/** Whether these parts, or any element of a list, name the current user or what they hold a role on; undefined where that is not known. */
function isSubjects(parts: readonly Part[], subject: Operand, joins: Joins, scope: Scope): Fragment | undefined {
  const { dialect } = scope;
  if (subject.kind === "held") return scope.subject && isHeld(parts, scope.subject.held(subject.role));
  const keys = keysOf(subject);
  if (keys !== undefined) return isOneOf(parts, keys, dialect);
  const [only] = parts;
  const key = joins.value(subject);
  const [person] = key.kind === "parts" ? key.parts : [];
  if (only === undefined || person === undefined) return undefined;
  return only.type.element === undefined
    ? dialect.compare("=", only.type, only.sql, person.sql)
    : dialect.contains(only.type, only.stored, person.sql);
}

/** What is not known of a holder of roles is never true; a statement for anybody asks what the number is. */
export function writeMembership(name: string, isNegated: boolean, scope: Scope, mode: Mode): Formula {
  const sought = isNegated ? False : True;
  const found = scope.subject?.membership(name, mode === "true" ? [sought] : [sought, Bad]);
  return found === undefined ? never : single(found);
}

export function writeAbove(
  { path, line, subject }: TestOf<"above">,
  isNegated: boolean,
  joins: Joins,
  scope: Scope,
  mode: Mode,
): Formula {
  const value = joins.value({ kind: "field", type: lastOf(path).type, path });
  const [part] = value.kind === "parts" ? value.parts : [];
  if (value.kind !== "parts" || part === undefined) return never;
  const boss = joins.value(subject);
  const [top] = boss.kind === "parts" ? boss.parts : [];
  if (top === undefined) {
    if (mode === "bad") return isNegated ? formula("and", []) : isNull(value, true, joins, mode);
    return isNegated ? isNull(value, false, joins, mode) : never;
  }
  const person = joins.place(scope.residual.plan.of(line.table).table);
  const below = isBelow(part, top, person, line, scope);
  const open = hasOpenLine(part, person, line, scope);
  return forSomebody(leadsTo(joins, value.parts, below, isNegated, mode, open), subject, scope, isNegated, mode);
}
