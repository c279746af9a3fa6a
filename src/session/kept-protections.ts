import { rawValue } from "../conditions/read.js";
import type { Row, Source } from "../conditions/source.js";
import { closedGrid, type KeptProtection, ProtectionRules, withProtections } from "../rules/protections.js";
import { type CellRange, parseRange } from "../rules/ranges.js";
import type { Rule } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import { PortierError, portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Schema, Table } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";
import { Recent } from "./recent.js";

/** A state takes memory, and few are asked about at a time: the one that counts, and those of changes and previews. */
const mostStates = 8;

/** The rules of a document together with what is protected as data: made once for each state of that. */
export class ProtectedRules {
  readonly #ruleset: Ruleset;
  readonly #kept: Table;
  readonly #grids: readonly string[];
  readonly #byContent = new Recent<Ruleset>(mostStates);
  /** By the lists themselves, where these never change: then a session finds its rules without looking at them. */
  #byLists: readonly { readonly lists: readonly Iterable<Row>[]; readonly rules: Ruleset }[] = [];
  #closedRules: Ruleset | undefined;
  readonly #rules: ProtectionRules;
  readonly #ruleOfRow = new WeakMap<Row, Rule>();

  /** Undefined for a document in which nothing is protected as data. */
  static of(ruleset: Ruleset): ProtectedRules | undefined {
    const { kept, tables } = ruleset.schema;
    const grids = [...tables.values()].filter(({ grid }) => grid?.protections).map(({ name }) => name);
    return kept?.protections === undefined || grids.length === 0
      ? undefined
      : new ProtectedRules(ruleset, kept.protections, grids);
  }

  private constructor(ruleset: Ruleset, kept: Table, grids: readonly string[]) {
    this.#ruleset = ruleset;
    this.#rules = new ProtectionRules(ruleset);
    this.#kept = kept;
    this.#grids = grids;
  }

  /**
   * The rules that count now; the document's own where nothing is protected. Where that cannot be found out, without a source
   * that tells, no cell is edited.
   *
   * @throws PortierError (`bad-protection`) for one that cannot be read: what it protects is not known.
   */
  now(source: Source | undefined): Ruleset {
    const lists = this.#lists(source);
    if (lists === undefined) return this.#closed;
    const known = this.#byLists.find((one) => one.lists.every((list, index) => list === lists[index]));
    if (known !== undefined) return known.rules;
    const rows = lists.flatMap((list) => [...list]);
    if (rows.length === 0) return this.#ruleset;
    if (lists.every(Object.isFrozen) && rows.every(Object.isFrozen)) {
      const rules = this.#made(rows);
      this.#byLists = [{ lists, rules }, ...this.#byLists].slice(0, mostStates);
      return rules;
    }
    const content = rows.map(contentOf).join("\n");
    const made = this.#byContent.get(content) ?? this.#made(rows);
    this.#byContent.set(content, made);
    return made;
  }

  #lists(source: Source | undefined): readonly Iterable<Row>[] | undefined {
    const { referring } = source ?? {};
    if (referring === undefined) return undefined;
    try {
      return this.#grids.map((name) => referring.call(source, this.#kept.name, "table", name));
    } catch (error) {
      if (error instanceof PortierError && error.code === "needs-source") return undefined;
      throw error;
    }
  }

  get #closed(): Ruleset {
    this.#closedRules ??= withProtections(
      this.#ruleset,
      this.#grids.flatMap((name) => {
        const table = this.#ruleset.schema.tables.get(name);
        return table === undefined ? [] : closedGrid(table);
      }),
    );
    return this.#closedRules;
  }

  #made(rows: readonly Row[]): Ruleset {
    const rules = rows.flatMap((row) => this.#ruleOf(row) ?? []);
    return rules.length === 0 ? this.#ruleset : withProtections(this.#ruleset, rules);
  }

  #ruleOf(row: Row): Rule | undefined {
    const known = this.#ruleOfRow.get(row);
    if (known !== undefined) return known;
    const protection = protectionIn(this.#ruleset.schema, this.#kept, row);
    const rule = protection && this.#rules.of(protection);
    // After one protection is changed, all others are as they were.
    if (rule !== undefined && Object.isFrozen(row)) this.#ruleOfRow.set(row, rule);
    return rule;
  }
}

function isTexts(raw: unknown): raw is readonly string[] {
  return Array.isArray(raw) && raw.every((one) => typeof one === "string");
}

const decisive = ["id", "table", "ranges", "except", "effect", "to", "note", "from", "until"] as const;

function contentOf(row: Row): string {
  return JSON.stringify(decisive.map((name) => row[name]));
}

/**
 * A protection as its record has it; undefined for one of a table that is not protected as data.
 *
 * @throws PortierError (`bad-protection`) for one that cannot be read.
 */
export function protectionIn(schema: Schema, kept: Table, row: Row): KeptProtection | undefined {
  const id = rawValue(row, "id");
  const bad = (what: string) => portierError("bad-protection", { id: String(id), what });
  const value = (name: string): Scalar | null => {
    const field = kept.byName.get(name);
    const raw = rawValue(row, name);
    if (field === undefined || raw === null || raw === undefined) return null;
    const stored = storedValue(field.type, raw);
    if (stored === undefined) throw bad(`"${name}" cannot be read`);
    return stored;
  };
  const text = (name: string): string => {
    const found = value(name);
    if (typeof found !== "string") throw bad(`"${name}" is missing`);
    return found;
  };
  const list = (name: string) => {
    const raw = row[name];
    return isTexts(raw) ? raw : (listElements(value(name) ?? "[]") as readonly string[]);
  };
  const rangesIn = (name: string) =>
    list(name).map((written): CellRange => {
      const range = parseRange(written);
      if (range === undefined) throw bad(`"${written}" is not a cell range`);
      return range;
    });
  const table = schema.tables.get(text("table"));
  if (table?.grid?.protections !== true) return undefined;
  const ranges = rangesIn("ranges");
  if (ranges.length === 0) throw bad("it names no cells");
  const optional = (name: string) => (value(name) ?? undefined) as string | undefined;
  return {
    id: text("id"),
    table,
    ranges,
    except: rangesIn("except"),
    effect: text("effect") as KeptProtection["effect"],
    to: list("to"),
    note: optional("note"),
    from: optional("from"),
    until: optional("until"),
  };
}
