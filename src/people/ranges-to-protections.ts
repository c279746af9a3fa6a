import { True } from "../conditions/truth.js";
import { readProtectionWho } from "../rules/protections.js";
import { printRange } from "../rules/ranges.js";
import type { Rule } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { DocumentInput, TableInput } from "../schema/document.js";
import { internals } from "../session/internals.js";
import { compile } from "../session/portier.js";
import { newStamp } from "./protection-writes.js";
import type { Protection } from "./protections.js";

/** A document whose fixed ranges have become data. */
export interface RangesAsProtections {
  /** Without the rules that have. */
  readonly document: DocumentInput;
  /** To be stored in `portier_protections`, each under the name of its rule. */
  readonly protections: readonly Protection[];
}

/**
 * Turns the ranges that rules of a grid fix into protections, which move with the rows and which people change themselves: of
 * rules that do nothing but keep cells from being edited, or have that confirmed, for anybody but roles, groups and persons.
 * Rules that ask more, and permits, stay. The document that is given stays as it is.
 *
 * @throws PortierError for a document that does not compile.
 */
export function rangesToProtections(document: DocumentInput, table: string, at: string): RangesAsProtections {
  const { ruleset } = internals(compile(document));
  const before = document.tables[table] as TableInput | undefined;
  const made = ruleset.rules.flatMap((rule): Protection[] =>
    rule.table.name === table && rule.address.startsWith(`${table}/`) ? (protectionOf(rule, ruleset, at) ?? []) : [],
  );
  const gone = new Set(made.map(({ id }) => id));
  const rules = Object.fromEntries(Object.entries(before?.rules ?? {}).filter(([name]) => !gone.has(name)));
  if (before === undefined) return { document, protections: [] };
  return {
    document: { ...document, tables: { ...document.tables, [table]: { ...before, rules } } },
    protections: made,
  };
}

function protectionOf(rule: Rule, ruleset: Ruleset, at: string): Protection[] | undefined {
  const { effect, to, except, where, becomes, extents, note, from, until } = rule;
  const cells = extents.get("edit")?.cells;
  const isPlain = where.kind === "truth" && where.value === True && becomes === undefined && !rule.alsoAfter;
  if (cells === undefined || extents.size > 1 || !isPlain || effect.name === "permit") return undefined;
  const isForAnyone = to.some(({ kind }) => kind === "anyone");
  const keepers = effect.name === "reserve" ? to : except;
  if (effect.name === "reserve" ? except.length > 0 : !isForAnyone) return undefined;
  if (keepers.some(({ text }) => readProtectionWho(text, ruleset) === undefined)) return undefined;
  const protection: Protection = {
    id: rule.address.slice(rule.table.name.length + 1),
    table: rule.table.name,
    ranges: cells.ranges.map(printRange),
    except: cells.except.length === 0 ? null : cells.except.map(printRange),
    effect: effect.name === "confirm" ? "confirm" : "reserve",
    to: keepers.map(({ text }) => text),
    note: note ?? null,
    from: from ?? null,
    until: until ?? null,
    by: null,
    at,
    stamp: newStamp(),
  };
  return [protection];
}
