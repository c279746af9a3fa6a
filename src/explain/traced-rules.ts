import { and } from "../conditions/expression.js";
import { True } from "../conditions/truth.js";
import type { ActionName } from "../rules/actions.js";
import { hasRow } from "../rules/cells.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Field, Table } from "../schema/schema.js";
import { isInForce, type OpenedSubject } from "../session/open-subject.js";
import { type CountingRule, countingRules } from "../session/residual.js";
import type { ConditionTrace, RuleTrace, Tracer, WhoTrace } from "./trace.js";

/** The row of a record in a grid; undefined where it cannot be told; `any` without a record or a grid. */
export type Place = number | undefined | "any";

/** A rule as it counts for an action, with how who and where came out. */
export interface TracedRule {
  readonly counting: CountingRule;
  readonly action: ActionName;
  readonly inForce: boolean;
  readonly to: WhoTrace;
  readonly where: ConditionTrace | undefined;
}

/** The rules of a table, each looked at once for a question about one record. */
export class TracedRules {
  readonly table: Table;
  readonly #ruleset: Ruleset;
  readonly #tracer: Tracer;
  readonly #place: Place;
  readonly #subject: OpenedSubject;
  readonly #known = new Map<ActionName, readonly TracedRule[]>();

  constructor(ruleset: Ruleset, tracer: Tracer, table: Table, place: Place, subject: OpenedSubject) {
    this.table = table;
    this.#ruleset = ruleset;
    this.#tracer = tracer;
    this.#place = place;
    this.#subject = subject;
  }

  /** The rules that count for an action, whatever they cover. */
  of(action: ActionName): readonly TracedRule[] {
    const known = this.#known.get(action);
    if (known !== undefined) return known;
    const settings = this.#subject.settings(this.table);
    const made = countingRules(this.#ruleset, this.table, action, settings).map((counting): TracedRule => {
      const { rule, options } = counting;
      // A new record is what the change leads to.
      const where =
        options.judges === "new" && rule.becomes !== undefined ? and([rule.where, rule.becomes]) : rule.where;
      return {
        counting,
        action,
        inForce: isInForce(rule, this.#subject.now),
        to: this.#tracer.who(rule),
        where: where.kind === "truth" && where.value === True ? undefined : this.#tracer.condition(where),
      };
    });
    this.#known.set(action, made);
    return made;
  }

  /** How a rule stands to a field, or without one to the record as a whole. */
  trace({ counting, action, inForce, to, where }: TracedRule, field: Field | undefined): RuleTrace {
    const { rule, options } = counting;
    const { extent } = options;
    const isKey = field !== undefined && rule.table.key.includes(field);
    const keyFollows = isKey && (action === "list" || action === "view" || action === "export");
    // A reference made of other fields is hidden with any of them.
    const hidesPart = rule.effect.phase === "block" && field?.by?.some((part) => extent.fields.has(part)) === true;
    const inExtent =
      field === undefined ? extent.fields.size > 0 || extent.act : keyFollows || hidesPart || extent.fields.has(field);
    // The key follows from any cell of its row.
    const covers = inExtent && coversPlace(counting, keyFollows ? undefined : field, this.#place);
    const isNew = options.judges === "new";
    const isCrossing = options.isCrossing === true;
    const isLate = isCrossing || (rule.alsoAfter && options.judges === "change");
    return {
      rule: rule.address,
      effect: rule.effect.name,
      action,
      covers,
      fields: rule.table.fields.filter((one) => extent.fields.has(one)).map(({ name }) => name),
      to,
      where,
      becomes: isNew ? undefined : this.#tracer.describe(rule.becomes),
      period: rule.from === undefined && rule.until === undefined ? undefined : { ...periodOf(rule), inForce },
      applies: covers && inForce ? applies(rule, to, where, { isLate, isCrossing, isNew }) : "no",
      note: rule.note,
    };
  }

  /** The rules that decide about one field of this record, or about the act itself. */
  deciding(action: ActionName, field: Field | "act"): readonly TracedRule[] {
    return this.of(action).filter(({ counting, inForce }) => {
      const { rule, options } = counting;
      const { extent } = options;
      if (!inForce) return false;
      if (field !== "act") return extent.fields.has(field) && coversPlace(counting, field, this.#place);
      if (!extent.act || extent.cells === undefined || this.#place === "any") return extent.act;
      const isPermit = rule.effect.phase === "permit";
      if (this.#place === undefined) return !isPermit;
      const rows = isPermit ? [...extent.cells.rowsOf.values()] : [extent.cells.held];
      return rows.some((one) => hasRow(one, this.#place as number));
    });
  }
}

function periodOf({ from, until }: CountingRule["rule"]): { readonly from?: string; readonly until?: string } {
  return { ...(from === undefined ? {} : { from }), ...(until === undefined ? {} : { until }) };
}

/** Whether a rule on cells covers the record's row; one that is not known is held by every block, and permitted by none. */
function coversPlace({ rule, options: { extent } }: CountingRule, field: Field | undefined, place: Place): boolean {
  const { cells } = extent;
  if (cells === undefined || place === "any") return true;
  if (place === undefined) return rule.effect.phase !== "permit";
  const rows = field === undefined ? [...cells.rowsOf.values()] : [cells.rowsOf.get(field) ?? []];
  const isCell = rows.some((one) => hasRow(one, place));
  return field === undefined && extent.fields.size === 0 ? hasRow(cells.held, place) : isCell;
}

interface When {
  readonly isLate: boolean;
  readonly isCrossing: boolean;
  readonly isNew: boolean;
}

function applies(
  rule: CountingRule["rule"],
  to: WhoTrace,
  where: ConditionTrace | undefined,
  { isLate, isCrossing, isNew }: When,
): "yes" | "no" | "open" {
  const truths = [where?.truth ?? "true", rule.effect.name === "reserve" ? opposite(to.truth) : to.truth];
  if (truths.includes("open")) return truths.includes("false") && !isLate ? "no" : "open";
  // Tested again after the change, a condition that does not hold now may hold then.
  if (truths.includes("false")) return isLate && truths[1] !== "false" ? "open" : "no";
  const holds = rule.effect.phase !== "permit" || truths.every((truth) => truth === "true");
  if (!holds) return "no";
  // What holds both ways and holds now needs no more; where a row would go to, only the change says.
  return (rule.becomes === undefined || isNew) && !isCrossing ? "yes" : "open";
}

function opposite(truth: WhoTrace["truth"]): WhoTrace["truth"] {
  return truth === "true" ? "false" : truth === "false" ? "true" : truth;
}
