import type { Part } from "../schema/reader.js";
import type { Field, Table } from "../schema/schema.js";
import { type ActionName, actions } from "./actions.js";
import type { Effect } from "./effects.js";
import type { Extent } from "./rule.js";

const expectations = {
  fields: "all, or a list of fields such as [title, label] or [all, -label]",
  record: "yes",
  both: "yes, all, or a list of fields such as [title, label]",
} as const;

/** Reads the extent of one action; undefined after a problem. */
export function readExtent(part: Part, action: ActionName, effect: Effect, table: Table): Extent | undefined {
  const { speaksOf } = actions[action];
  const refuse = (found: unknown): undefined => {
    part.problems.add("wrong-extent", { action, found, expected: expectations[speaksOf] }, part.path);
  };
  const { value } = part;
  if (value === "yes" || value === true) {
    return speaksOf === "fields" ? refuse(value) : { fields: new Set(), act: true };
  }
  if (speaksOf === "record") return refuse(value);
  const items: unknown[] = typeof value === "string" ? [value] : Array.isArray(value) ? value : [];
  if (items.length === 0) return refuse(value);

  const reader = new ExtentReader(part, action, effect, table);
  for (const [index, item] of items.entries()) {
    if (typeof item !== "string") return refuse(item);
    reader.take(item, Array.isArray(value) ? { ...part, path: [...part.path, index] } : part);
  }
  return reader.finish(speaksOf === "both");
}

class ExtentReader {
  readonly #part: Part;
  readonly #action: ActionName;
  readonly #effect: Effect;
  readonly #table: Table;
  readonly #taken = new Set<Field>();
  readonly #removed = new Set<Field>();
  #all = false;

  constructor(part: Part, action: ActionName, effect: Effect, table: Table) {
    this.#part = part;
    this.#action = action;
    this.#effect = effect;
    this.#table = table;
  }

  take(item: string, part: Part): void {
    const { fields } = this.#table;
    if (item === "all") {
      this.#all = true;
      this.#sweep(fields);
    } else if (item.startsWith("-")) {
      const field = this.#find(item.slice(1).trim(), part);
      if (field !== undefined) this.#removed.add(field);
    } else if (item.includes("..")) {
      const [from = "", to = ""] = item.split("..").map((name) => name.trim());
      const first = this.#find(from, part);
      const last = this.#find(to, part);
      if (first === undefined || last === undefined) return;
      if (first.index <= last.index) this.#sweep(fields.slice(first.index, last.index + 1));
      else {
        const expected = `the fields in declared order: ${to}..${from}`;
        part.problems.add("wrong-extent", { action: this.#action, found: item, expected }, part.path);
      }
    } else {
      const field = this.#find(item, part);
      if (field === undefined) return;
      if (this.#effect.phase === "permit" && field.computed && this.#writes()) {
        part.problems.add("computed-edit", { field: item, action: this.#action }, part.path);
      } else this.#taken.add(field);
    }
  }

  finish(hasAct: boolean): Extent | undefined {
    const fields = new Set([...this.#taken].filter((field) => !this.#removed.has(field)));
    const permits = this.#effect.phase === "permit";
    const keyAlone = fields.size > 0 && [...fields].every((field) => this.#table.key.includes(field));
    if (!permits && keyAlone && !this.#writes()) {
      this.#part.problems.add("denied-key", { action: this.#action }, this.#part.path);
      return undefined;
    }
    // Creating is permitted with any of its fields, but stopped as a whole only by a rule on all of them.
    return { fields, act: hasAct && (permits || (this.#all && this.#removed.size === 0)) };
  }

  /** Takes fields that are not named one by one: a permit then leaves out what must be named. */
  #sweep(fields: readonly Field[]): void {
    for (const field of fields) {
      if (!this.#effect.namesSensitive || !this.#mustBeNamed(field)) this.#taken.add(field);
    }
  }

  #mustBeNamed(field: Field): boolean {
    if (field.sensitive) return true;
    if (!this.#writes()) return false;
    const isKey = this.#table.key.includes(field);
    return field.computed || field === this.#table.owner?.[0] || (this.#action === "edit" && isKey);
  }

  #writes(): boolean {
    return actions[this.#action].judges !== "stored";
  }

  #find(name: string, part: Part): Field | undefined {
    const field = this.#table.byName.get(name);
    if (field === undefined) {
      const facts = { table: this.#table.name, name, candidates: ["all", ...this.#table.byName.keys()] };
      part.problems.add("unknown-field", facts, part.path);
    }
    return field;
  }
}
