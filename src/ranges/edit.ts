import { type EffectName, effectNames } from "../rules/effects.js";
import { parseRange, printRange } from "../rules/ranges.js";
import type { DocumentInput, RuleInput, TableInput } from "../schema/document.js";
import { portierError } from "../schema/problems.js";
import { isCells, textsOf, type WrittenCells } from "./cells.js";

/** One range of a rule, as {@link keptRanges} tells it. */
export interface RangePlace {
  /** The address of the rule: `plan/heading-is-fixed`. */
  readonly rule: string;
  /** The action of the extent: `edit`, `view`, `protect` and so on. */
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

/** A range that is not there yet. */
export interface NewRange {
  /** The name of the range in the table, and of its rule. */
  readonly name: string;
  /** In A1 notation. */
  readonly range: string;
  /** `reserve`: only those named edit it; `permit`: they may; `deny`: they may not; `confirm`: they are asked first. */
  readonly effect: EffectName;
  /** Roles, groups or `person KEY`: for whom the range is. */
  readonly to: readonly string[];
  /** What is protected and why; shown to whoever is refused, or must confirm. Default: nothing. */
  readonly note?: string;
}

/**
 * A document with other cells, keepers or another note for one of its ranges. The document that is given stays as it is;
 * what does not change is shared with the new one. Keepers are copied by giving those of another range:
 * `editRange(document, place, { to: other.to, except: other.without })`.
 *
 * @throws PortierError with code `wrong-call` where there is no such range, or the new one is no A1 notation; whether the
 * columns and roles are there `compile` says.
 */
export function editRange(document: DocumentInput, place: RangePlace, change: RangeChange): DocumentInput {
  const found = findRange(document, place);
  const { table, rule, effect, extent, written, names } = found;
  const next = change.range === undefined ? place.range : readRange(change.range);
  const isMoved = next !== place.range;
  const isNamed = Object.hasOwn(names, written);
  const cells = textsOf(extent.cells).map((text) => (text === written ? next : text));
  const { to, except, note, ...rest } = rule;
  const changed: RuleInput = {
    ...rest,
    ...part("to", change.to ?? to),
    ...part("except", change.except ?? except),
    [effect]: { ...rule[effect], [place.action]: isMoved && !isNamed ? { ...extent, cells } : extent },
    ...part("note", change.note ?? note),
  };
  return withTable(document, found, {
    ...table,
    ...(isNamed && isMoved ? { ranges: { ...names, [written]: next } } : {}),
    rules: { ...table.rules, [found.ruleName]: changed },
  });
}

/**
 * A document with one range more: its cells under a name, and a rule of the same name for editing them.
 *
 * @throws PortierError with code `wrong-call` where the table has no grid, or something of that name.
 */
export function addRange(document: DocumentInput, tableName: string, added: NewRange): DocumentInput {
  const { name, range, effect, to, note } = added;
  const table = tableOf(document, tableName);
  if (table?.grid === undefined) {
    throw portierError("wrong-call", { what: `"${tableName}" is not a grid`, hint: "name a table that has one" });
  }
  if (Object.hasOwn(table.ranges ?? {}, name) || Object.hasOwn(table.rules ?? {}, name)) {
    throw portierError("wrong-call", { what: `"${tableName}" has a "${name}" already`, hint: "choose another name" });
  }
  const rule: RuleInput = { ...part("to", to), [effect]: { edit: { cells: [name] } }, ...part("note", note) };
  const ranges = { ...table.ranges, [name]: readRange(range) };
  const after: TableInput = { ...table, ranges, rules: { ...table.rules, [name]: rule } };
  return withTable(document, { tableName }, after);
}

/**
 * A document without one of its ranges. A rule that is left without any is taken out, and so is a name that no rule uses any
 * more.
 *
 * @throws PortierError with code `wrong-call` where there is no such range.
 */
export function removeRange(document: DocumentInput, place: RangePlace): DocumentInput {
  const found = findRange(document, place);
  const { table, rule, effect, extent, written, names } = found;
  const cells = textsOf(extent.cells).filter((text) => text !== written);
  const { [place.action]: _, ...others } = rule[effect] ?? {};
  const extents = cells.length === 0 ? others : { ...others, [place.action]: { ...extent, cells } };
  const { [found.ruleName]: __, ...otherRules } = table.rules ?? {};
  const rules: Readonly<Record<string, RuleInput>> =
    Object.keys(extents).length === 0
      ? otherRules
      : { ...table.rules, [found.ruleName]: { ...rule, [effect]: extents } };
  const isUsed = Object.values(rules).some((one) => effectNames.some((name) => usesRange(one[name], written)));
  const { [written]: ___, ...otherNames } = names;
  const ranges = isUsed || !Object.hasOwn(names, written) ? table.ranges : otherNames;
  return withTable(document, found, { ...table, ...(ranges === undefined ? {} : { ranges }), rules });
}

interface FoundRange {
  readonly tableName: string;
  readonly table: TableInput;
  readonly ruleName: string;
  readonly rule: RuleInput;
  readonly effect: EffectName;
  readonly extent: WrittenCells;
  /** The range as the rule writes it: in A1 notation, or as a name. */
  readonly written: string;
  readonly names: Readonly<Record<string, string>>;
}

function findRange(document: DocumentInput, place: RangePlace): FoundRange {
  const [tableName = "", ruleName = ""] = splitOnce(place.rule);
  const table = tableOf(document, tableName);
  const rule = own(table?.rules, ruleName);
  const effect = rule && effectNames.find((name) => rule[name] !== undefined);
  const extent = effect && own(rule[effect], place.action);
  const names = table?.ranges ?? {};
  const isMeant = (text: string) => {
    const range = parseRange(own(names, text) ?? text);
    return range !== undefined && printRange(range) === place.range;
  };
  const written = isCells(extent) ? textsOf(extent.cells).find(isMeant) : undefined;
  if (table === undefined || rule === undefined || effect === undefined || !isCells(extent) || written === undefined) {
    throw portierError("wrong-call", {
      what: `"${place.rule}" has no range ${place.range} for ${place.action}`,
      hint: "name a rule, an action and a range as keptRanges tells them",
    });
  }
  return { tableName, table, ruleName, rule, effect, extent, written, names };
}

/** Whatever a name is: only what is there itself is found by it. */
function own<V>(mapping: Readonly<Record<string, V>> | undefined, name: string): V | undefined {
  return mapping !== undefined && Object.hasOwn(mapping, name) ? mapping[name] : undefined;
}

function tableOf(document: DocumentInput, name: string): TableInput | undefined {
  return own(document.tables, name) as TableInput | undefined;
}

function withTable(document: DocumentInput, { tableName }: { tableName: string }, table: TableInput): DocumentInput {
  return { ...document, tables: { ...document.tables, [tableName]: table } };
}

function usesRange(extents: RuleInput["permit"], name: string): boolean {
  const texts = Object.values(extents ?? {}).flatMap((extent) =>
    isCells(extent) ? [...textsOf(extent.cells), ...textsOf(extent.except)] : [],
  );
  return texts.includes(name);
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
    what: `"${text}" is not a cell range`,
    hint: "write B2:F40, C7, G:G, 2:2, A2:E or H:",
  });
}

/** A rule's address: the table's name, a slash, and the rule's, which may have slashes itself. */
function splitOnce(address: string): readonly string[] {
  const at = address.indexOf("/");
  return [address.slice(0, at), address.slice(at + 1)];
}
