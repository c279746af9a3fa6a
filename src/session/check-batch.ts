import type { Row } from "../conditions/source.js";
import { recordAddress } from "../schema/address.js";
import type { ChangeContext } from "./change-context.js";
import { type ChangeOptions, type ChangeResult, invalid } from "./change-result.js";
import { createResult, editResult } from "./changes.js";
import { WrittenSource } from "./overlay.js";
import type { TablePlan } from "./plan.js";

/** What became of a change of many records: all of it is done, or nothing. */
export interface BatchResult {
  /** Whether every one was accepted. If not, apply none. */
  readonly accepted: boolean;
  /** One for each record or line, in their order. */
  readonly results: readonly ChangeResult[];
}

/** A context in which each change is judged on what those before it have left. */
function inTurn(context: ChangeContext) {
  const { source } = context.reading;
  const written = source && new WrittenSource(source, (name) => context.plan.table(name));
  if (written === undefined) return { context, written };
  const reading = { ...context.reading, source: written };
  return { context: { ...context, reading, later: { ...context.later, source: written } }, written };
}

/** The same values for many records: each must be permitted as an edit and as a bulk change. */
export function bulkEditResult(
  given: ChangeContext,
  plan: TablePlan,
  records: readonly (Row | undefined)[],
  values: Row,
  options: ChangeOptions,
): BatchResult {
  const { context, written } = inTurn(given);
  const { table } = plan;
  const latest = new Map<string, Row>();
  const results = records.map((record): ChangeResult => {
    const address = record && recordAddress(table, record);
    const before = (address === undefined ? undefined : latest.get(address)) ?? record;
    const result = editResult(context, plan, before, values, options, "bulk");
    if (!result.accepted || result.record === undefined) return result;
    if (address !== undefined) latest.set(address, result.record);
    written?.write({ table, before, after: result.record });
    return result;
  });
  return { accepted: results.every(({ accepted }) => accepted), results };
}

/** Many new records: each must be permitted as created and as imported, and no two may have the same key. */
export function importResult(
  given: ChangeContext,
  plan: TablePlan,
  lines: readonly Row[],
  options: ChangeOptions,
): BatchResult {
  const { context, written } = inTurn(given);
  const { table } = plan;
  const taken = new Set<string>();
  const results = lines.map((values): ChangeResult => {
    const result = createResult(context, plan, values, options, "import");
    if (!result.accepted || result.record === undefined) return result;
    const address = recordAddress(table, result.record);
    if (address !== undefined && taken.has(address)) {
      const field = table.key[0]?.name ?? "";
      return invalid([{ field, reason: "key-taken", message: context.messages.keyTakenByLine }]);
    }
    if (address !== undefined) taken.add(address);
    written?.write({ table, before: undefined, after: result.record });
    return result;
  });
  return { accepted: results.every(({ accepted }) => accepted), results };
}
