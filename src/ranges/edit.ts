import { effectNames } from "../rules/effects.js";
import { parseRange, printRange } from "../rules/ranges.js";
import type { DocumentInput, ExtentInput, RuleInput, TableInput } from "../schema/document.js";
import { portierError } from "../schema/problems.js";

/** One range of a rule, as {@link keptRanges} tells it. */
export interface RangePlace {
  /** The address of the rule: `plan/heading-is-fixed`. */
  readonly rule: string;
  readonly action: string;
  /** In A1 notation. */
  readonly range: string;
}

/** What is to be different; what is left out stays. */
export interface RangeChange {
  /**
   * In A1 notation. Where the rule uses a name that the table gives to the range, the name stands for other cells from then
   * on, in every rule that uses it.
   */
  readonly range?: string;
  /** Whom the rule is for, for all of its ranges: for a reserve those who keep them, for a permit those who are let in. */
  readonly to?: readonly string[];
  /** Who is taken out of those. */
  readonly except?: readonly string[];
  /** Shown to whoever is refused; an empty text for none. */
  readonly note?: string;
}

/**
 * A document with other cells, keepers or another note for one of its ranges. The document that is given stays as it is;
 * what does not change is shared with the new one. Keepers are copied by giving `to` and `without` of another range:
 * `editRange(document, place, { to: other.to, except: other.without })`.
 *
 * @throws PortierError with code `wrong-call` where there is no such range, or the new one is no A1 notation; whether the
 * columns and roles are there `compile` says.
 */
export function editRange(document: DocumentInput, place: RangePlace, change: RangeChange): DocumentInput {
  const [tableName = "", ruleName = ""] = splitOnce(place.rule);
  const table = document.tables[tableName] as TableInput | undefined;
  const rule = table?.rules?.[ruleName];
  const effect = rule && effectNames.find((name) => rule[name] !== undefined);
  const extent = effect && rule[effect]?.[place.action];
  const cells = isCells(extent) ? listOf(extent.cells) : [];
  const names = table?.ranges ?? {};
  const isMeant = (text: string) => {
    const range = parseRange(Object.hasOwn(names, text) ? (names[text] ?? "") : text);
    return range !== undefined && printRange(range) === place.range;
  };
  const written = cells.find(isMeant);
  if (table === undefined || rule === undefined || effect === undefined || !isCells(extent) || written === undefined) {
    throw portierError("wrong-call", {
      what: `"${place.rule}" has no range ${place.range} for ${place.action}`,
      hint: "name a rule, an action and a range as keptRanges tells them",
    });
  }
  const next = change.range === undefined ? place.range : readRange(change.range);
  const isNamed = Object.hasOwn(names, written);
  const moved =
    next === place.range || isNamed
      ? extent
      : { ...extent, cells: cells.map((text) => (text === written ? next : text)) };
  const { to, except, note, ...rest } = rule;
  const changed: RuleInput = {
    ...rest,
    ...part("to", change.to ?? to),
    ...part("except", change.except ?? except),
    [effect]: { ...rule[effect], [place.action]: moved },
    ...part("note", change.note ?? note),
  };
  const after: TableInput = {
    ...table,
    ...(isNamed && next !== place.range ? { ranges: { ...names, [written]: next } } : {}),
    rules: { ...table.rules, [ruleName]: changed },
  };
  return { ...document, tables: { ...document.tables, [tableName]: after } };
}

/** A part of a rule as it is written; one that says nothing is left out, a list of one is its entry. */
function part(key: "to" | "except" | "note", value: string | readonly string[] | undefined): RuleInput {
  if (value === undefined || value.length === 0) return {};
  return { [key]: typeof value === "string" || value.length > 1 ? value : value[0] };
}

function readRange(text: string): string {
  const range = parseRange(text.trim());
  if (range !== undefined) return printRange(range);
  throw portierError("wrong-call", {
    what: `"${text}" is no cell range`,
    hint: "write B2:F40, C7, G:G, 2:2, A2:E or H:",
  });
}

function isCells(extent: ExtentInput | undefined): extent is Extract<ExtentInput, { readonly cells: unknown }> {
  return typeof extent === "object" && "cells" in extent;
}

function listOf(written: string | readonly string[]): readonly string[] {
  return typeof written === "string" ? [written] : written;
}

/** A rule's address: the table's name, a slash, and the rule's, which may have slashes itself. */
function splitOnce(address: string): readonly string[] {
  const at = address.indexOf("/");
  return [address.slice(0, at), address.slice(at + 1)];
}
