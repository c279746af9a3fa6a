import { always } from "../../conditions/expression.js";
import type { Row } from "../../conditions/source.js";
import { traceRules } from "../../explain/explain.js";
import type { RuleTrace, TracedTruth } from "../../explain/trace.js";
import type { EffectName } from "../../rules/effects.js";
import type { Path } from "../../schema/problems.js";
import type { Table } from "../../schema/schema.js";
import { internals } from "../../session/internals.js";
import { isInForce } from "../../session/open-subject.js";
import type { Portier } from "../../session/portier.js";
import { toNobody } from "../../session/reading.js";
import { type ExpectationData, openExpected, recordsOf } from "./asked.js";
import type { Check, Expectation } from "./expectation.js";

/** Which parts of a rule expectations cover. */
export interface RuleCoverage {
  readonly rule: string;
  readonly effect: EffectName;
  readonly path: Path;
  /** Whether it decided the answer of any of them. */
  readonly applied: boolean;
  /** Whether it is in force at the time of the expectations: a rule with `from` or `until` may not be. */
  readonly isInForce: boolean;
  /** Whether it applies to everybody. */
  readonly isForAnyone: boolean;
  /** Whether expectations are about people it applies to, and about people it does not apply to. */
  readonly who: { readonly applied: boolean; readonly notApplied: boolean };
  /** The entries of `to` and `except` that matched nobody. */
  readonly entriesNotCovered: readonly string[];
  /** The values that its condition had; undefined for a rule without one. */
  readonly where: { readonly true: boolean; readonly false: boolean; readonly unknown: boolean } | undefined;
  /** Actions and fields of it that no expectation asks about: `view shelf`. */
  readonly fieldsNotCovered: readonly string[];
}

/** What is known of a rule while expectations are gone through. */
interface Seen {
  applied: boolean;
  readonly who: Set<TracedTruth>;
  readonly entries: Map<string, boolean>;
  readonly where: Set<TracedTruth>;
  readonly fields: Set<string>;
}

/**
 * Goes through expectations with the explanation of each answer, and says which rules, entries, values of conditions and
 * fields they cover: a mistake in what is not covered is not detected.
 */
export function coverageOf(
  portier: Portier,
  expectations: readonly Expectation[],
  data: ExpectationData,
): RuleCoverage[] {
  const seen = new Map<string, Seen>();
  for (const expectation of expectations) {
    const session = openExpected(portier, expectation, data);
    const { table } = expectation.on;
    const found = recordsOf(expectation, session, data) ?? [];
    for (const check of expectation.checks) {
      // A count asks about every record.
      const rows =
        check.kind === "count" ? [...data.records(table.name)] : expectation.on.kind === "table" ? [undefined] : found;
      for (const row of rows) {
        const record = recordOf(check, table, row);
        for (const trace of traceRules(session, { action: check.action, table: table.name, record })) {
          note(seen, trace, check);
        }
      }
    }
  }
  const { now } = internals(portier.session({ onDiagnostic: toNobody, ...data.options, source: data.source })).subject;
  return internals(portier).ruleset.rules.map((rule): RuleCoverage => {
    const own = seen.get(rule.address);
    const asked = [...rule.extents].flatMap(([action, { fields }]) =>
      [...fields].map(({ name }) => `${action} ${name}`),
    );
    const entries = [...rule.to, ...rule.except].map(({ text }) => text);
    return {
      rule: rule.address,
      effect: rule.effect.name,
      path: rule.path,
      applied: own?.applied === true,
      isInForce: isInForce(rule, now),
      isForAnyone: rule.except.length === 0 && rule.to.every(({ kind }) => kind === "anyone"),
      who: { applied: own?.who.has("true") === true, notApplied: own?.who.has("false") === true },
      entriesNotCovered: entries.filter((entry) => own?.entries.get(entry) !== true),
      where: rule.where !== always ? outcomesOf(own?.where) : undefined,
      fieldsNotCovered: asked.filter((one) => own?.fields.has(one) !== true),
    };
  });
}

function outcomesOf(where: ReadonlySet<TracedTruth> | undefined) {
  return {
    true: where?.has("true") === true,
    false: where?.has("false") === true,
    unknown: where?.has("unknown") === true,
  };
}

/** What the question is about: a new record as it would be, or the stored one. */
function recordOf(check: Check, { fields }: Table, row: Row | undefined): Row | undefined {
  if (check.kind !== "change" || check.action !== "create") return row;
  return { ...Object.fromEntries(fields.map((field) => [field.name, field.default ?? null])), ...check.values };
}

function note(seen: Map<string, Seen>, trace: RuleTrace, check: Check): void {
  const { rule, effect, applies, to, where, action, fields } = trace;
  const own: Seen = seen.get(rule) ?? {
    ...{ applied: false, who: new Set(), entries: new Map(), where: new Set(), fields: new Set() },
  };
  seen.set(rule, own);
  // What depends on what a record becomes is decided where a change is judged. A reserve is for those who do not keep it.
  const isTheirs = to.truth === (effect === "reserve" ? "false" : "true");
  const isJudged = applies === "open" && check.kind === "change" && isTheirs && (where?.truth ?? "true") === "true";
  if (applies === "yes" || isJudged) own.applied = true;
  own.who.add(to.truth);
  if (where !== undefined) own.where.add(where.truth);
  for (const { entry, truth } of [...to.to, ...to.except]) {
    own.entries.set(entry, own.entries.get(entry) === true || truth === "true");
  }
  for (const name of askedFields(check, fields)) own.fields.add(`${action} ${name}`);
}

/** Of a rule's fields those that a check asks about. */
function askedFields(check: Check, fields: readonly string[]): readonly string[] {
  switch (check.kind) {
    case "may":
    case "mayNot":
      return check.fields.flatMap((field) => (field !== undefined && fields.includes(field.name) ? [field.name] : []));
    case "exactly":
      return fields;
    case "count":
      return [];
    case "change":
      return fields.filter((name) => Object.hasOwn(check.values, name));
    default:
      return check satisfies never;
  }
}
