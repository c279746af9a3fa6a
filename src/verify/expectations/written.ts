import type { DocumentTypes, FieldOf, TableOf } from "../../schema/document-types.js";
import type { Portier } from "../../session/portier.js";
import type { ActionOf } from "../../session/session-types.js";
import type { ExpectedOutcome } from "./expectation.js";

/** As whom: a person's key or `visitor`; whoever holds a role or is in a group; a made-up person. */
export type AsInput =
  | string
  | { readonly role: string }
  | { readonly group: string }
  | { readonly person: Readonly<Record<string, unknown>> };

/** The fields that an action is expected of, or the act as a whole. */
type Fields<T extends DocumentTypes, K extends TableOf<T>> = "yes" | true | readonly FieldOf<T, K>[];

type ByAction<T extends DocumentTypes, K extends TableOf<T>, V> = { readonly [A in ActionOf<T, K>]?: V };

type Values<T extends DocumentTypes, K extends TableOf<T>> = {
  readonly [F in FieldOf<T, K>]?: T["tables"][K]["row"][F];
};

interface ExpectationOf<T extends DocumentTypes, K extends TableOf<T>> {
  readonly name?: string;
  readonly as: AsInput;
  /** When it is asked: a date or an instant. */
  readonly at?: string;
  /** A table, one record as `TABLE/KEY`, the records that meet a condition (there must be one), or a made-up record. */
  readonly on:
    | K
    | `${K}/${string}`
    | { readonly table: K; readonly where: string }
    | { readonly table: K; readonly record: Values<T, K> };
  readonly may?: ByAction<T, K, Fields<T, K>>;
  readonly mayNot?: ByAction<T, K, Fields<T, K>>;
  /** These fields and no other. */
  readonly exactly?: ByAction<T, K, readonly FieldOf<T, K>[]>;
  /** On how many records of the table. */
  readonly count?: ByAction<T, K, number>;
  readonly edit?: Values<T, K>;
  readonly create?: Values<T, K>;
  readonly do?: ActionOf<T, K>;
  readonly outcome?: ExpectedOutcome;
  /** The rule that refuses, or that is to be confirmed: `objects/value-stays-in-the-office`. */
  readonly by?: string;
  readonly becomes?: Values<T, K>;
}

/** An expectation as it is written in TypeScript: as in a file, with the names of one document's tables and fields. */
export type ExpectationInput<T extends DocumentTypes> = { [K in TableOf<T>]: ExpectationOf<T, K> }[TableOf<T>];

/** What a file of expectations holds. */
export interface ExpectationList {
  readonly expectations: readonly object[];
}

/**
 * Expectations in TypeScript, checked against the names of a document that was declared there. The default export of a
 * file `NAME.expect.ts`, which `portier test` runs; or for {@link readExpectations}, in a test.
 *
 * @example
 * export default expectations(museum, [
 *   { as: "s-003", on: "objects/BM-SH-0001", may: { edit: ["label"] }, mayNot: { view: ["insured_value"] } },
 * ]);
 */
export function expectations<T extends DocumentTypes>(
  _portier: Portier<T>,
  list: readonly ExpectationInput<T>[],
): ExpectationList {
  return { expectations: list };
}
