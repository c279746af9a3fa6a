import type { Expression } from "../../conditions/expression.js";
import type { Row } from "../../conditions/source.js";
import type { ActionName } from "../../rules/actions.js";
import type { Path } from "../../schema/problems.js";
import type { Field, Table } from "../../schema/schema.js";

/** What somebody meant, to be compared with what the rules come to. */
export interface Expectation {
  /** Its place in the file. */
  readonly path: Path;
  /** What it is called in results; undefined for one without a name. */
  readonly name: string | undefined;
  /** Whose permissions are looked at. */
  readonly as: ExpectedViewer;
  /** When it is asked, as a canonical instant; undefined for the one at which expectations are looked at. */
  readonly at: string | undefined;
  /** The records that it is about. */
  readonly on: ExpectedRecords;
  /** What must hold of each of them. */
  readonly checks: readonly Check[];
}

/** As whom. */
export type ExpectedViewer =
  | { readonly kind: "person"; readonly key: string }
  | { readonly kind: "visitor" }
  /** Whoever holds a role or is in a group, and of whom nothing else is known: asked about tables, not records. */
  | { readonly kind: "member"; readonly name: string }
  /** A made-up person. */
  | { readonly kind: "made-up"; readonly row: Row };

/** On what. */
export type ExpectedRecords =
  /** The table as a whole: whether there is anything at all. */
  | { readonly kind: "table"; readonly table: Table }
  | { readonly kind: "key"; readonly table: Table; readonly key: string }
  /** Every record that meets a condition; there must be one. */
  | { readonly kind: "where"; readonly table: Table; readonly condition: Expression; readonly text: string }
  | { readonly kind: "record"; readonly table: Table; readonly row: Row };

/** How a change is expected to end. */
export const outcomes = ["accepted", "refused", "unconfirmed", "not-found", "invalid"] as const;

/** How a change is expected to end. */
export type ExpectedOutcome = (typeof outcomes)[number];

/** One thing that an expectation says. */
export type Check = { readonly path: Path } & (
  | {
      readonly kind: "may" | "mayNot";
      readonly action: ActionName;
      /** The fields, or the act as a whole. */
      readonly fields: readonly (Field | undefined)[];
    }
  /** These fields and no other. */
  | { readonly kind: "exactly"; readonly action: ActionName; readonly fields: readonly Field[] }
  /** On how many records of the table. */
  | { readonly kind: "count"; readonly action: ActionName; readonly count: number }
  | {
      readonly kind: "change";
      readonly action: ActionName;
      readonly values: Row;
      readonly outcome: ExpectedOutcome;
      /** The rule that refuses, or that is to be confirmed. */
      readonly by: string | undefined;
      /** What some fields of the record are afterwards. */
      readonly becomes: Row | undefined;
    }
);
