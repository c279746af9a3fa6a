import { always, never } from "../conditions/expression.js";
import type { protectionEffects } from "../schema/kept-tables.js";
import { meansNothing, type Table } from "../schema/schema.js";
import { type CellArea, cellArea } from "./cells.js";
import { effects } from "./effects.js";
import { isPerson, personEntry, personKeyIn } from "./person-entry.js";
import type { CellRange } from "./ranges.js";
import type { Rule, Who } from "./rule.js";
import { makeRuleset, type Ruleset } from "./ruleset.js";

type ProtectionEffect = (typeof protectionEffects)[number];

/** Cells that somebody protected, as data. */
export interface KeptProtection {
  readonly id: string;
  readonly table: Table;
  readonly ranges: readonly CellRange[];
  readonly except: readonly CellRange[];
  readonly effect: ProtectionEffect;
  /** Who goes on editing the cells: names of roles and groups, `person KEY`. Nobody, where it is empty. */
  readonly to: readonly string[];
  readonly note: string | undefined;
  /** Canonical instants: it is there while `from <= now < until`. */
  readonly from: string | undefined;
  readonly until: string | undefined;
}

/** What the name of the rule begins with that a protection is; no rule of a document has a dot in its name. */
export const protectionPrefix = "protection.";

export function protectionAddress(table: string, id: string): string {
  return `${table}/${protectionPrefix}${id}`;
}

/** A document's rules, and what is protected as data as further rules. */
export function withProtections(ruleset: Ruleset, protections: readonly Rule[]): Ruleset {
  const { schema, groups, screens, lines, ranges } = ruleset;
  return makeRuleset({ schema, groups, screens, rules: [...ruleset.rules, ...protections], lines, ranges });
}

/** Makes rules of protections. Of those for the same persons there may be thousands: they share what is asked of a person. */
export class ProtectionRules {
  readonly #ruleset: Ruleset;
  readonly #names = new Map<string, Who>();
  readonly #patterns = new Map<string, Rule>();

  constructor(ruleset: Ruleset) {
    this.#ruleset = ruleset;
  }

  /** Undefined where the ranges cover no column: they are for columns that are added later, or that are gone. */
  of(protection: KeptProtection): Rule | undefined {
    const { id, table, ranges, except, note } = protection;
    if (table.grid === undefined) return undefined;
    const cells = cellArea(table.grid, ranges, except);
    if (cells.rowsOf.size === 0) return undefined;
    const pattern = this.#pattern(protection);
    return { ...pattern, address: protectionAddress(table.name, id), note, extents: editing(cells), pattern };
  }

  #pattern({ table, effect, to, from, until }: KeptProtection): Rule {
    const shape = JSON.stringify([table.name, effect, to, from, until]);
    const known = this.#patterns.get(shape);
    if (known !== undefined) return known;
    const named = to.map((text) => this.#whoOf(text));
    const isReserve = effect === "reserve";
    const made: Rule = {
      address: `${table.name}/protection`,
      table,
      effect: effects[effect],
      to: isReserve ? named : [{ kind: "anyone", text: "anyone" }],
      except: isReserve ? [] : named,
      where: always,
      becomes: undefined,
      alsoAfter: false,
      from,
      until,
      extents: new Map(),
      note: undefined,
      copyOf: undefined,
      ignore: meansNothing,
      path: [],
    };
    this.#patterns.set(shape, made);
    return made;
  }

  #whoOf(text: string): Who {
    const who = this.#names.get(text) ?? readProtectionWho(text, this.#ruleset) ?? nobodyOf(text);
    this.#names.set(text, who);
    return who;
  }
}

/** What stands for protections that are not known: nobody edits a cell, or moves, makes or deletes a row. */
export function closedGrid(table: Table): Rule {
  const { grid } = table;
  const fields = new Set(grid === undefined ? table.fields : [...grid.columns, grid.position]);
  return {
    address: protectionAddress(table.name, "unknown"),
    table,
    effect: effects.reserve,
    to: [],
    except: [],
    where: always,
    becomes: undefined,
    alsoAfter: false,
    from: undefined,
    until: undefined,
    extents: new Map([
      ["edit", { fields, act: false, cells: undefined }],
      ["create", { fields, act: true, cells: undefined }],
      ["delete", { fields: new Set(), act: true, cells: undefined }],
    ]),
    note: undefined,
    copyOf: undefined,
    ignore: meansNothing,
    path: [],
  };
}

function editing(cells: CellArea): Rule["extents"] {
  return new Map([["edit", { fields: new Set(cells.rowsOf.keys()), act: false, cells }]]);
}

/** Whom an entry of a protection names: a role or group, or `person KEY`; undefined for what it cannot name. */
export function readProtectionWho(
  text: string,
  { schema, groups }: Pick<Ruleset, "schema" | "groups">,
): Who | undefined {
  const role = schema.roles.get(text);
  if (role !== undefined ? role.scope === undefined : groups.has(text)) return { kind: "member", name: text, text };
  const written = personEntry(text);
  const key = written === undefined ? undefined : personKeyIn(written, schema);
  const met = key === undefined ? undefined : isPerson(key, schema);
  return met && { kind: "related", met, text };
}

/** What names nobody any more lets nobody in: what is protected stays so. */
function nobodyOf(text: string): Who {
  return { kind: "related", met: never, text };
}
