import type { SessionOperand } from "../conditions/expression.js";
import type { Truth } from "../conditions/truth.js";
import type { Field, Table } from "../schema/schema.js";
import type { Residual } from "../session/bound.js";
import type { Dialect } from "./dialect.js";
import { type Fragment, raw } from "./fragment.js";
import type { JoinedPaths } from "./joined.js";
import type { Place } from "./place.js";

/** What only a session knows of the current user, for statements that find it out themselves: worked out once for each. */
export interface OpenSubject {
  /** What a table is called where the condition stands: what is stored in the database names its schema. */
  readonly sourceOf: (table: Table) => string;
  /** The value of an operand, or of a reference made of other fields, of each part; null for a visitor. */
  readonly value: (operand: SessionOperand) => Fragment;
  /** The keys of the records on which they hold a scoped role, as a list. */
  readonly held: (role: string) => Fragment;
  /** Whether it is one of these truth values that they hold a role or are in a group. */
  readonly membership: (name: string, among: readonly Truth[]) => Fragment;
}

/** What writing a condition needs to know. */
export interface Scope {
  readonly dialect: Dialect;
  /** What is left of the rules for the current user. */
  readonly residual: Residual;
  /** The record that the condition is about. */
  readonly record: Place;
  /** Inside `exists`: the record that the rule is about. */
  readonly outer: Place | undefined;
  /** Inside `exists`: the record of which it is asked. */
  readonly around: Place | undefined;
  /** Undefined where the residual is that of a session, which has the values. */
  readonly subject: OpenSubject | undefined;
  /** The records that stand beside the statement's own, where it has a place for them. */
  readonly joined: JoinedPaths | undefined;
  /** How many aliases are in use around the condition; what stands beside each other uses the same ones. */
  readonly depth: number;
  /** The alias that the statement's own record has, in lower case. */
  readonly taken: string;
}

/** The scope of a condition about one record of a statement. */
export function scopeOf(
  dialect: Dialect,
  residual: Residual,
  record: Place,
  subject?: OpenSubject,
  joined?: JoinedPaths,
): Scope {
  return {
    dialect,
    residual,
    record,
    subject,
    joined,
    outer: undefined,
    around: undefined,
    depth: 0,
    taken: record.alias.toLowerCase(),
  };
}

/** The scope of a condition about another record, inside one that uses `depth` aliases. */
export function inside(scope: Scope, depth: number, record: Place, outer: Place | undefined): Scope {
  return { ...scope, depth, record, outer, around: undefined };
}

export function column({ dialect }: Scope, { alias }: Place, field: Field): Fragment {
  return raw(`${dialect.quoteName(alias)}.${dialect.quoteName(field.column)}`);
}

/** `"archive"."objects"`: a dot in the source's name stands between schema and table. */
export function sourceName({ quoteName }: Dialect, { source }: Table, schema?: string): string {
  const named = schema === undefined || source.includes(".") ? source.split(".") : [schema, source];
  return named.map(quoteName).join(".");
}

/** `"objects" "r1"`, for a list of tables. */
export function tableAs({ dialect, subject }: Scope, { table, alias }: Place): Fragment {
  const source = subject?.sourceOf(table) ?? sourceName(dialect, table);
  const name = dialect.quoteName(alias);
  return raw(source === name ? source : `${source} ${name}`);
}
