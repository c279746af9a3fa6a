import { readCondition } from "../conditions/check.js";
import { always, type Expression, never, visitOperands } from "../conditions/expression.js";
import type { PersonMembers } from "../conditions/resolve.js";
import { instantExpects, readInstant } from "../schema/instant.js";
import {
  checkName,
  isMapping,
  type Part,
  readFlag,
  readIgnore,
  readMapping,
  readShape,
  readText,
  readTexts,
} from "../schema/reader.js";
import type { Schema, Table } from "../schema/schema.js";
import { type ActionName, actionNamesOf, actionOf, protectAction } from "./actions.js";
import { type Effect, type EffectName, effectNames, effects } from "./effects.js";
import { readExtent } from "./extent.js";
import type { CellRange } from "./ranges.js";
import type { Extent, Rule, Who } from "./rule.js";
import { readWho } from "./who.js";

const ruleKeys = [
  "to",
  "except",
  "where",
  "becomes",
  "alsoAfter",
  "from",
  "until",
  "skip",
  "note",
  "copyOf",
  "ignore",
  ...effectNames,
] as const;

type Shape = ReadonlyMap<(typeof ruleKeys)[number], Part>;

/** What the names in a table's rules mean. */
export interface RuleScope {
  readonly schema: Schema;
  readonly table: Table;
  readonly groups: ReadonlySet<string>;
  /** What makes somebody a member, for conditions. */
  readonly members: PersonMembers;
  /** Named ranges of the table. */
  readonly ranges: ReadonlyMap<string, CellRange>;
  /** Whether the rules stand under `"*"`, and so in every table. */
  readonly isEveryTable: boolean;
}

/** Reads the rules of one table. A rule with a problem is left out, the problem listed. */
export function readRules(part: Part, scope: RuleScope): Rule[] {
  const rules: Rule[] = [];
  for (const [name, entry] of readMapping(part, `rules of "${scope.isEveryTable ? "*" : scope.table.name}"`)) {
    if (!checkName(entry, "a rule", name)) continue;
    if (!/^[a-z0-9]+(-[a-z0-9]+)*$/.test(name)) {
      const rule = "use small letters, digits and hyphens: labels-are-public";
      part.problems.add("bad-name", { what: "a rule", name, rule }, entry.path);
      continue;
    }
    const rule = new RuleReader(entry, name, scope).read();
    if (rule !== undefined) rules.push(rule);
  }
  checkCopies(part);
  return rules;
}

/** A copy is of a rule that stands beside it. */
function checkCopies(part: Part): void {
  const rules = readMapping(part, "rules");
  for (const [name, entry] of rules) {
    const of = isMapping(entry.value) ? entry.value["copyOf"] : undefined;
    if (typeof of !== "string" || (of !== name && rules.has(of))) continue;
    const candidates = [...rules.keys()].filter((one) => one !== name);
    part.problems.add("unknown-rule", { name: of, candidates }, [...entry.path, "copyOf"]);
  }
}

/** Whether a rule asks anything of records, besides in which cells they stand. */
function readsRecord(to: readonly Who[], except: readonly Who[], where: Expression): boolean {
  let reads = false;
  const look = (condition: Expression) => {
    visitOperands(condition, ({ kind }) => {
      reads ||= kind === "field";
    });
  };
  for (const who of [...to, ...except]) if (who.kind === "related") look(who.met);
  look(where);
  return reads;
}

class RuleReader {
  readonly #part: Part;
  readonly #name: string;
  readonly #scope: RuleScope;
  readonly #shape: Shape;

  constructor(part: Part, name: string, scope: RuleScope) {
    this.#part = part;
    this.#name = name;
    this.#scope = scope;
    this.#shape = readShape(part, `rule "${name}"`, ruleKeys);
  }

  read(): Rule | undefined {
    const { problems, path } = this.#part;
    const { table } = this.#scope;
    const before = problems.list.length;
    if (this.#isSkipped()) return undefined;
    const effect = this.#effect();
    const where = this.#condition("where") ?? always;
    const becomes = this.#condition("becomes");
    const to = readWho(this.#shape.get("to"), `to of "${this.#name}"`, this.#scope);
    const except = readWho(this.#shape.get("except"), `except of "${this.#name}"`, this.#scope);
    const note = readText(this.#shape.get("note"), "note");
    const ignore = readIgnore(this.#shape.get("ignore"));
    const copyOf = this.#copyOf();
    const alsoAfter = readFlag(this.#shape.get("alsoAfter"), "alsoAfter");
    const from = this.#instant("from");
    const until = this.#instant("until");
    if (effect === undefined) return undefined;
    if (!this.#shape.has("to")) {
      if (effect.needsTo) problems.add("missing-to", { rule: this.#name, effect: effect.name }, path);
      else to.push({ kind: "anyone", text: "anyone" });
    }
    const extents = this.#extents(effect);
    if (becomes !== undefined) this.#checkBecomes(extents);
    if (alsoAfter) this.#checkBothWays(effect);
    if (extents.has(protectAction) && actionOf(table, protectAction) !== undefined && readsRecord(to, except, where))
      problems.add("protect-reads-record", { rule: this.#name }, path);
    if (from !== undefined && until !== undefined && from >= until) {
      problems.add("empty-period", { rule: this.#name }, this.#shape.get("until")?.path ?? path);
    }
    if (problems.list.length > before) return undefined;
    const address = `${this.#scope.isEveryTable ? "*" : table.name}/${this.#name}`;
    return {
      address,
      table,
      effect,
      to,
      except,
      where,
      becomes,
      alsoAfter,
      from,
      until,
      extents,
      note,
      copyOf,
      ignore,
      path,
    };
  }

  /** The address of the rule that this one is a copy of. */
  #copyOf(): string | undefined {
    const name = readText(this.#shape.get("copyOf"), `copyOf of "${this.#name}"`);
    return name && `${this.#scope.isEveryTable ? "*" : this.#scope.table.name}/${name}`;
  }

  /** A rule of every table that leaves this one out. */
  #isSkipped(): boolean {
    const skip = this.#shape.get("skip");
    if (skip === undefined) return false;
    const { schema, table, isEveryTable } = this.#scope;
    if (!isEveryTable) {
      const facts = { what: "skip", expected: 'given under table "*" only', found: skip.value };
      skip.problems.add("wrong-shape", facts, skip.path);
    }
    const names = readTexts(skip, `skip of "${this.#name}"`);
    for (const entry of names) {
      const name = entry.value as string;
      if (schema.tables.has(name)) continue;
      entry.problems.add("unknown-table", { name, candidates: schema.tables.keys() }, entry.path);
    }
    return names.some((entry) => entry.value === table.name);
  }

  #effect(): Effect | undefined {
    const { problems, path } = this.#part;
    const found: EffectName[] = effectNames.filter((effect) => this.#shape.has(effect));
    if (found.length > 1) problems.add("several-effects", { rule: this.#name, found }, path);
    if (found.length === 0) problems.add("missing-effect", { rule: this.#name, effects: effectNames }, path);
    const [name] = found;
    return name && effects[name];
  }

  #condition(key: "where" | "becomes"): Expression | undefined {
    const part = this.#shape.get(key);
    if (part === undefined) return undefined;
    if (typeof part.value === "boolean") return part.value ? always : never;
    const text = readText(part, `${key} of "${this.#name}"`);
    if (text === undefined) return undefined;
    if (key === "becomes" && text.trim() === "any") return always;
    const { schema, table, members } = this.#scope;
    // `may create` has no record to ask about, and `import` neither.
    const isAction = (action: string, of: Table) =>
      actionOf(of, action)?.judges !== "new" && actionOf(of, action) !== undefined;
    return readCondition(text, { schema, table, problems: part.problems, path: part.path, isAction, members });
  }

  #instant(key: "from" | "until"): string | undefined {
    const part = this.#shape.get(key);
    const text = readText(part, `${key} of "${this.#name}"`);
    if (part === undefined || text === undefined) return undefined;
    const instant = readInstant(this.#scope.schema, text);
    if (instant === undefined) {
      part.problems.add("bad-value", { field: key, expects: instantExpects, found: text }, part.path);
    }
    return instant;
  }

  #extents(effect: Effect): Map<ActionName, Extent> {
    const extents = new Map<ActionName, Extent>();
    const part = this.#shape.get(effect.name);
    const { table, ranges } = this.#scope;
    if (part === undefined) return extents;
    const entries = readMapping(part, effect.name);
    if (entries.size === 0 && typeof part.value === "object") {
      part.problems.add("wrong-shape", { what: effect.name, expected: "at least one action", found: {} }, part.path);
    }
    for (const [name, entry] of entries) {
      const action = actionOf(table, name);
      if (action === undefined) {
        part.problems.add("unknown-action", { table: table.name, name, candidates: actionNamesOf(table) }, entry.path);
      } else if (!effect.coversReading && action.target === "fields" && !action.writes) {
        part.problems.add("misplaced-confirm", { action: name }, entry.path);
      } else {
        const extent = readExtent(entry, { table, effect, name, action, ranges });
        if (extent !== undefined) extents.set(name, extent);
      }
    }
    return extents;
  }

  #checkBecomes(extents: ReadonlyMap<ActionName, Extent>): void {
    const part = this.#shape.get("becomes");
    const without = [...extents.keys()].filter((action) => actionOf(this.#scope.table, action)?.judges === "stored");
    if (part !== undefined && without.length > 0) {
      part.problems.add("misplaced-becomes", { actions: without }, part.path);
    }
  }

  #checkBothWays(effect: Effect): void {
    const part = this.#shape.get("alsoAfter");
    const why = effect.phase === "permit" ? "permit" : this.#shape.has("becomes") ? "becomes" : undefined;
    if (part !== undefined && why !== undefined) part.problems.add("misplaced-also-after", { why }, part.path);
  }
}
