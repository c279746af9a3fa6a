import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import { type Acceptance, type ChangeOptions, invalid } from "./acceptance.js";
import { acceptCreate, acceptEdit, type ChangeContext } from "./changes.js";
import type { TablePlan } from "./plan.js";

/** What became of a change of many records: all of it is done, or nothing. */
export interface ManyAcceptance {
  /** Whether every one was accepted. If not, apply none. */
  readonly accepted: boolean;
  /** One for each record or line, in their order. */
  readonly results: readonly Acceptance[];
}

/** The same values for many records: each must be permitted as an edit and as a bulk change. */
export function acceptBulk(
  context: ChangeContext,
  plan: TablePlan,
  records: readonly (Row | undefined)[],
  values: Row,
  options: ChangeOptions,
): ManyAcceptance {
  const results = records.map((record) => acceptEdit(context, plan, record, values, options, "bulk"));
  return { accepted: results.every(({ accepted }) => accepted), results };
}

/** Many new records: each must be permitted as created and as imported, and no two may have the same key. */
export function acceptImport(
  context: ChangeContext,
  plan: TablePlan,
  lines: readonly Row[],
  options: ChangeOptions,
): ManyAcceptance {
  const taken = new Set<string>();
  const results = lines.map((values): Acceptance => {
    const result = acceptCreate(context, plan, values, options, "import");
    const address =
      result.accepted && result.record !== undefined ? recordAddress(plan.table, result.record) : undefined;
    if (address === undefined) return result;
    const isTwice = taken.has(address);
    taken.add(address);
    const field = plan.table.key[0]?.name ?? "";
    if (!isTwice) return result;
    return invalid([{ field, reason: "key-taken", message: "An earlier line has the same key." }]);
  });
  return { accepted: results.every(({ accepted }) => accepted), results };
}
