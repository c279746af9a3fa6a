import type { ComparisonOp, DurationUnit, MatchWord } from "../conditions/syntax.js";
import type { Scalar } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import type { Fragment } from "./fragment.js";

/**
 * How one database says what the model means. Every member is required: a new dialect that forgets one does not
 * compile, instead of writing another's SQL.
 */
export interface Dialect {
  /** `mariadb` also for MySQL. */
  readonly name: "postgres" | "sqlite" | "mariadb";
  /** One name in quotes. */
  readonly quoteName: (name: string) => string;
  /** What stands for the value at a 1-based position. */
  readonly placeholder: (position: number) => string;
  /** A canonical value of a type, as it is compared with columns of that type. */
  readonly constant: (type: FieldType, value: Scalar) => Fragment;
  /** A stored value in a form in which values of its type compare; the column itself wherever an index is to be used. */
  readonly stored: (type: FieldType, column: Fragment) => Fragment;
  /**
   * Whether a stored value that is not null fits its type; undefined where the database holds nothing else. Never null
   * for such a value.
   */
  readonly fits: (type: FieldType, column: Fragment) => Fragment | undefined;
  /** Compares two values of one type that are in the form of `stored` or `constant`. May be null for nulls. */
  readonly compare: (op: ComparisonOp, type: FieldType, left: Fragment, right: Fragment) => Fragment;
  /** Whether a value is one of several constants, none of them null. */
  readonly among: (type: FieldType, value: Fragment, constants: readonly Fragment[]) => Fragment;
  /** Text against a pattern; only `like` knows `%` and `_`. `literal` is the pattern where it is written out. */
  readonly match: (how: MatchWord, text: Fragment, pattern: Fragment, literal: string | undefined) => Fragment;
  /** A date or instant moved by some days, hours or minutes. Only asked where it stays in the years 0001 to 9999. */
  readonly shift: (type: FieldType, value: Fragment, amount: number, unit: DurationUnit) => Fragment;
  /** The terms of an `order by` that put stored values in the order of the model, or in its reverse. */
  readonly order: (type: FieldType, column: Fragment, isDown: boolean) => readonly Fragment[];
  /** Whether a list that fits its type has an element. */
  readonly contains: (list: FieldType, column: Fragment, element: Fragment) => Fragment;
  /** The type of a column that holds values of a type; `isKey` for one that an index must be able to hold whole. */
  readonly columnType: (type: FieldType, isKey: boolean) => string;
  /** A text written out, for statements that take no parameters: those that make tables. */
  readonly literal: (text: string) => string;
  /** What makes an integer key number itself. */
  readonly numbering: string;
  /** A value that a driver gave, as applications of this package hold it. Driver settings: see the dialect's own file. */
  readonly decode: (type: FieldType, value: unknown) => unknown;
  /** A value of a field as the driver takes it. */
  readonly encode: (type: FieldType, value: unknown) => unknown;
  /** The end of a select into which no filter from outside is moved: it is worked out by itself. */
  readonly fence: string;
  /** An integer as the text of its digits, in a form in which texts compare. */
  readonly asText: (integer: Fragment) => Fragment;
  /** A text that is not compared, as a value of its own. */
  readonly text: (value: string) => Fragment;
  /** Those texts that are not null, with commas between them. */
  readonly listed: (texts: readonly Fragment[]) => Fragment;
}

/** Whether values of a type are held and compared as text. */
export function isTextual({ base }: FieldType): boolean {
  return base === "text" || base === "choice";
}

export function directed(term: Fragment, isDown: boolean): Fragment {
  return isDown ? [...term, " desc"] : term;
}

/** A literal as a `like` pattern in which `!` is the escape. */
export function escapeLike(literal: string): string {
  return literal.replace(/[!%_]/g, "!$&");
}
