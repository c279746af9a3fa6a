import { parseCondition } from "../conditions/parser.js";
import { printCondition } from "../conditions/printer.js";
import type { Condition } from "../conditions/syntax.js";
import type { DocumentInput, GroupInput, RoleInput, RuleInput, ScreenInput, TableInput } from "../schema/document.js";
import { portierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";

/** What a copied rule is called, and what of it is different. */
export interface RuleCopy {
  /** The name of the copy, in the same table. */
  readonly name: string;
  /** Whom the copy is for; otherwise the same. */
  readonly to?: readonly string[];
}

/**
 * A document with a copy of one of its rules. Its `ignore` is not copied: the reasons may not be
 * the same.
 *
 * @throws PortierError with code `wrong-call` where there is no such rule, or one with the name of the copy.
 */
export function copyRule(document: DocumentInput, address: string, { name, to }: RuleCopy): DocumentInput {
  const at = address.indexOf("/");
  const [tableName, ruleName] = [address.slice(0, at), address.slice(at + 1)];
  const table = Object.hasOwn(document.tables, tableName) ? document.tables[tableName] : undefined;
  const rules: Readonly<Record<string, RuleInput>> = table?.rules ?? {};
  const rule = Object.hasOwn(rules, ruleName) ? rules[ruleName] : undefined;
  if (table === undefined || rule === undefined) {
    throw portierError("wrong-call", { what: `there is no rule "${address}"`, hint: "name a rule as TABLE/RULE" });
  }
  mustBeNew(rules, name, `"${tableName}" has a rule`);
  const { ignore: _, to: own, ...rest } = rule;
  const who = to ?? own;
  const copy: RuleInput = { ...(who === undefined ? {} : { to: shortest(who) }), ...rest };
  return { ...document, tables: { ...document.tables, [tableName]: { ...table, rules: { ...rules, [name]: copy } } } };
}

/**
 * A document with a role that has another one's part. What is permitted to the other, denied to it, or to be confirmed, is so
 * to this one by rules of its own (`copyOf` says of which each is a copy), so that one thing can be changed. Where the other
 * is an exception, keeps what is reserved, is in a group, shown a screen, or asked for in a condition, this one is beside it.
 * It brings what the other brings, and is given by the same. Its `minHolders` and `ignore` are not copied.
 *
 * @throws PortierError with code `wrong-call` where there is no such role, or a role or group with the name of the copy.
 */
export function copyRole(document: DocumentInput, role: string, name: string): DocumentInput {
  const { roles = {}, groups, screens } = document;
  const own = Object.hasOwn(roles, role) ? roles[role] : undefined;
  if (own === undefined) {
    throw portierError("wrong-call", { what: `there is no role "${role}"`, hint: "name a role of the document" });
  }
  mustBeNew(roles, name, "there is a role");
  mustBeNew(groups ?? {}, name, "there is a group");
  const beside = new Beside(role, name);
  const { minHolders: _, ignore: __, ...copy } = own;
  // Who includes, excludes or gives the other does so with this one, too.
  const withRoles = mapValues(roles, (one) => beside.in<RoleInput>(one, ["include", "exclusive", "assignableBy"]));
  const tables = mapValues(document.tables, (table) =>
    table.rules === undefined ? table : { ...table, rules: beside.rules(table.rules) },
  ) as Readonly<Record<string, TableInput>>;
  return {
    ...document,
    roles: { ...withRoles, [name]: copy },
    ...(groups === undefined ? {} : { groups: mapValues(groups, (group) => beside.group(group)) }),
    ...(screens === undefined
      ? {}
      : { screens: mapValues(screens, (screen) => beside.in<ScreenInput>(screen, ["to", "home"])) }),
    tables,
  };
}

/** Puts a role beside another one, wherever that stands. */
class Beside {
  readonly #role: string;
  readonly #name: string;

  constructor(role: string, name: string) {
    this.#role = role;
    this.#name = name;
  }

  /** What takes something away for lack of a role is widened; everything else gets a copy. */
  rules(rules: Readonly<Record<string, RuleInput>>): Readonly<Record<string, RuleInput>> {
    const made: [string, RuleInput][] = [];
    const taken = new Set(Object.keys(rules));
    for (const [name, rule] of Object.entries(rules)) {
      const isReserve = isMapping(rule) && rule["reserve"] !== undefined;
      const wider = this.#conditions(this.in<RuleInput>(rule, isReserve ? ["to", "except"] : ["except"]));
      made.push([name, wider]);
      const to = isReserve || !isMapping(rule) ? [] : entriesOf(rule["to"]).flatMap((one) => this.#other(one) ?? []);
      const isThere = to.length === 0 || to.every((one) => entriesOf(rule.to).includes(one));
      if (isThere) continue;
      const { ignore: _, ...rest } = wider;
      const copy = freeName(`${name}-for-${slug(this.#name)}`, taken);
      made.push([copy, { ...rest, to: shortest(to), copyOf: name }]);
    }
    return Object.fromEntries(made);
  }

  group(group: GroupInput): GroupInput {
    const wider = this.in<GroupInput>(group, ["members", "without"]);
    return isMapping(wider) ? this.#conditions(wider) : wider;
  }

  in<T extends object>(mapping: T, keys: readonly (keyof T & string)[]): T {
    if (!isMapping(mapping)) return mapping;
    const changed = keys.flatMap((key) => {
      const value = mapping[key];
      const wider = value === undefined ? value : this.#widened(value);
      return wider === value ? [] : [[key, wider] as const];
    });
    return changed.length === 0 ? mapping : { ...mapping, ...Object.fromEntries(changed) };
  }

  /** The entry of the copy, also where a role is held on a record or begins a line: `editor of exhibition`. */
  #other(entry: unknown): string | undefined {
    if (typeof entry !== "string") return undefined;
    if (entry === this.#role) return this.#name;
    const isMore = entry.startsWith(`${this.#role} of `) || entry.startsWith(`${this.#role} and `);
    return isMore ? `${this.#name}${entry.slice(this.#role.length)}` : undefined;
  }

  #widened(written: unknown): unknown {
    const entries = entriesOf(written);
    const added = entries.map((one) => this.#other(one)).filter((one) => one !== undefined && !entries.includes(one));
    return added.length === 0 ? written : [...entries, ...added];
  }

  /** `owner is keeper` becomes `owner is keeper or owner is newcomer`. */
  #conditions<T extends { readonly where?: unknown; readonly becomes?: unknown }>(rule: T): T {
    const changed = (["where", "becomes"] as const).flatMap((key) => {
      const text = rule[key];
      const parsed = typeof text === "string" ? parseCondition(text) : undefined;
      if (parsed === undefined || "problems" in parsed) return [];
      const wider = this.#condition(parsed.condition);
      return wider === parsed.condition ? [] : [[key, printCondition(wider)] as const];
    });
    return changed.length === 0 ? rule : { ...rule, ...Object.fromEntries(changed) };
  }

  #condition(condition: Condition): Condition {
    switch (condition.kind) {
      case "and":
      case "or": {
        const terms = condition.terms.map((term) => this.#condition(term));
        return terms.every((term, index) => term === condition.terms[index]) ? condition : { ...condition, terms };
      }
      case "not": {
        const term = this.#condition(condition.term);
        return term === condition.term ? condition : { ...condition, term };
      }
      case "exists": {
        const inner = this.#condition(condition.condition);
        return inner === condition.condition ? condition : { ...condition, condition: inner };
      }
      case "member": {
        if (condition.name !== this.#role) return condition;
        const plain = { ...condition, negated: false };
        const either: Condition = { kind: "or", terms: [plain, { ...plain, name: this.#name }], at: condition.at };
        return condition.negated ? { kind: "not", term: either, at: condition.at } : either;
      }
      default:
        return condition;
    }
  }
}

function entriesOf(written: unknown): readonly unknown[] {
  if (written === undefined) return [];
  return Array.isArray(written) ? written : [written];
}

/** A role's name as a rule's name can have it. */
function slug(name: string): string {
  const words = name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");
  return words === "" ? "copy" : words;
}

function freeName(wanted: string, taken: Set<string>): string {
  let name = wanted;
  for (let number = 2; taken.has(name); number++) name = `${wanted}-${number}`;
  taken.add(name);
  return name;
}

function mapValues<V>(mapping: Readonly<Record<string, V>>, change: (value: V) => V): Readonly<Record<string, V>> {
  return Object.fromEntries(Object.entries(mapping).map(([key, value]) => [key, change(value)]));
}

function shortest(who: string | readonly string[]): string | readonly string[] {
  return typeof who !== "string" && who.length === 1 ? (who[0] ?? who) : who;
}

function mustBeNew(mapping: object, name: string, what: string): void {
  if (name.trim() === "") throw portierError("wrong-call", { what: "a copy needs a name", hint: "give it one" });
  if (!Object.hasOwn(mapping, name)) return;
  throw portierError("wrong-call", { what: `${what} "${name}" already`, hint: "choose another name" });
}
