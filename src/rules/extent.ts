import { isMapping, type Part, readShape } from "../schema/reader.js";
import type { Field, Table } from "../schema/schema.js";
import type { Action } from "./actions.js";
import { type CellArea, readCells } from "./cells.js";
import type { Effect } from "./effects.js";
import type { CellRange } from "./ranges.js";
import type { Extent } from "./rule.js";

const expectations = {
  fields: "all, or a list of fields such as [title, label] or [all, -label]",
  record: "yes",
  both: "yes, all, or a list of fields such as [title, label]",
} as const;

/** What an extent is read for. */
export interface ExtentScope {
  readonly table: Table;
  readonly effect: Effect;
  readonly name: string;
  readonly action: Action;
  readonly ranges: ReadonlyMap<string, CellRange>;
}

/** Reads the extent of one action; undefined after a problem. */
export function readExtent(part: Part, scope: ExtentScope): Extent | undefined {
  const { target } = scope.action;
  const refuse = (found: unknown): undefined => {
    part.problems.add("wrong-extent", { action: scope.name, found, expected: expectations[target] }, part.path);
  };
  const { value } = part;
  if (value === "yes" || value === true) {
    return target === "fields" ? refuse(value) : { fields: new Set(), act: true, cells: undefined };
  }
  if (target === "record") return refuse(value);
  if (isMapping(value)) return readCellExtent(part, scope);
  const items: unknown[] = typeof value === "string" ? [value] : Array.isArray(value) ? value : [];
  if (items.length === 0) return refuse(value);

  const reader = new ExtentReader(part, scope);
  for (const [index, item] of items.entries()) {
    if (typeof item !== "string") return refuse(item);
    reader.take(item, Array.isArray(value) ? { ...part, path: [...part.path, index] } : part);
  }
  return reader.finish();
}

function readCellExtent(part: Part, scope: ExtentScope): Extent | undefined {
  const shape = readShape(part, `cells for ${scope.name}`, ["cells", "except"]);
  const cells = shape.get("cells");
  if (cells === undefined) {
    part.problems.add("missing-key", { what: `the extent of ${scope.name}`, key: "cells" }, part.path);
    return undefined;
  }
  const area = readCells(cells, shape.get("except"), scope.table, scope.ranges);
  if (area === undefined) return undefined;
  const fields = new Set([...area.rowsOf.keys()].filter((field) => sweeps(field, scope)));
  // Making a row is permitted with its cells, but a block on cells stops only what they hold; the rows it holds as rows
  // are looked at apart.
  return { fields, act: scope.action.target === "both" && scope.effect.phase === "permit", cells: area };
}

/** Whether a field that is not named itself is covered: a permit leaves out what must be named. */
function sweeps(field: Field, { table, effect, action }: ExtentScope): boolean {
  if (!effect.namesSensitive) return true;
  if (field.sensitive) return false;
  if (!action.writes) return true;
  const isKey = action.judges === "change" && table.key.includes(field);
  return !field.computed && field !== table.owner?.[0] && !isKey;
}

class ExtentReader {
  readonly #part: Part;
  readonly #scope: ExtentScope;
  readonly #taken = new Set<Field>();
  readonly #removed = new Set<Field>();
  #all = false;

  constructor(part: Part, scope: ExtentScope) {
    this.#part = part;
    this.#scope = scope;
  }

  take(item: string, part: Part): void {
    const { fields } = this.#scope.table;
    if (item === "all") {
      this.#all = true;
      this.#sweep(fields);
    } else if (item.startsWith("tag ")) this.#tag(item.slice(4).trim(), part);
    else if (item.startsWith("-")) {
      const field = this.#find(item.slice(1).trim(), part);
      if (field !== undefined) this.#removed.add(field);
    } else if (item.includes("..")) this.#span(item, part);
    else {
      const field = this.#find(item, part);
      if (field !== undefined) this.#name(field, part);
    }
  }

  finish(): Extent | undefined {
    const { table, effect, action, name } = this.#scope;
    const fields = new Set([...this.#taken].filter((field) => !this.#removed.has(field)));
    const permits = effect.phase === "permit";
    const keyAlone = fields.size > 0 && [...fields].every((field) => table.key.includes(field));
    if (effect.phase === "block" && keyAlone && !action.writes) {
      this.#part.problems.add("denied-key", { action: name }, this.#part.path);
      return undefined;
    }
    // Creating is permitted with any of its fields, but stopped as a whole only by a rule on all of them.
    const isWhole = permits || (this.#all && this.#removed.size === 0);
    return { fields, act: action.target === "both" && isWhole, cells: undefined };
  }

  /** Takes fields that are not named one by one. */
  #sweep(fields: readonly Field[]): void {
    for (const field of fields) {
      if (sweeps(field, this.#scope)) this.#taken.add(field);
    }
  }

  /** A tag names its fields, sensitive ones too; what cannot be written stays out. */
  #tag(tag: string, part: Part): void {
    const { table, effect, action } = this.#scope;
    const tagged = table.fields.filter((field) => field.tags.has(tag));
    if (tagged.length === 0) {
      const candidates = new Set(table.fields.flatMap((field) => [...field.tags]));
      part.problems.add("unknown-tag", { table: table.name, name: tag, candidates }, part.path);
    }
    for (const field of tagged) {
      if (effect.phase !== "permit" || !field.computed || !action.writes) this.#taken.add(field);
    }
  }

  #span(item: string, part: Part): void {
    const [from = "", to = ""] = item.split("..").map((name) => name.trim());
    const first = this.#find(from, part);
    const last = this.#find(to, part);
    if (first === undefined || last === undefined) return;
    if (first.index <= last.index) this.#sweep(this.#scope.table.fields.slice(first.index, last.index + 1));
    else {
      const expected = `the fields in declared order: ${to}..${from}`;
      part.problems.add("wrong-extent", { action: this.#scope.name, found: item, expected }, part.path);
    }
  }

  #name(field: Field, part: Part): void {
    const { effect, action, name } = this.#scope;
    if (effect.phase === "permit" && field.computed && action.writes) {
      part.problems.add("computed-edit", { field: field.name, action: name }, part.path);
    } else this.#taken.add(field);
  }

  #find(name: string, part: Part): Field | undefined {
    const { table } = this.#scope;
    const field = table.byName.get(name);
    if (field !== undefined) return field;
    // In a rule of every table the field that holds the owner has another name in each.
    if (name === "owner") {
      if (table.owner === undefined) part.problems.add("no-owner", { table: table.name }, part.path);
      return table.owner?.[0];
    }
    const candidates = ["all", "owner", ...table.byName.keys()];
    part.problems.add("unknown-field", { table: table.name, name, candidates }, part.path);
    return undefined;
  }
}

/** Whether an extent holds rows as rows, besides their cells. */
export function holdsRows(area: CellArea | undefined): area is CellArea {
  return area !== undefined && area.held.length > 0;
}
