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
 * A document with a copy of one of its rules. What is meant by doubts about the first is not copied: the reasons may not be
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
  const { meant: _, to: own, ...rest } = rule;
  const who = to ?? own;
  const copy: RuleInput = { ...(who === undefined ? {} : { to: shortest(who) }), ...rest };
  return { ...document, tables: { ...document.tables, [tableName]: { ...table, rules: { ...rules, [name]: copy } } } };
}

/**
 * A document with a role that has another one's part: it stands wherever the other stands, in rules, groups and screens,
 * brings what that brings, and is given by the same. How many must hold the other, and why doubts about it are meant, is
 * not copied.
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
  const beside = besideOf(role, name);
  const { atLeast: _, meant: __, ...copy } = own;
  // Who includes, excludes or gives the other does so with this one, too.
  const withRoles = mapValues(roles, (one) => beside.in<RoleInput>(one, ["include", "exclusive", "givenBy"]));
  const tables = mapValues(document.tables, (table) => ({
    ...table,
    ...(table.rules === undefined
      ? {}
      : { rules: mapValues(table.rules, (rule) => beside.in<RuleInput>(rule, ["to", "except"])) }),
  })) as Readonly<Record<string, TableInput>>;
  return {
    ...document,
    roles: { ...withRoles, [name]: copy },
    ...(groups === undefined
      ? {}
      : { groups: mapValues(groups, (group) => beside.in<GroupInput>(group, ["members", "without"])) }),
    ...(screens === undefined
      ? {}
      : { screens: mapValues(screens, (screen) => beside.in<ScreenInput>(screen, ["to", "home"])) }),
    tables,
  };
}

/** Puts a name beside another one, also where it is held on a record: `editor of exhibition`. */
function besideOf(role: string, name: string) {
  const other = (entry: unknown): string | undefined => {
    if (typeof entry !== "string") return undefined;
    if (entry === role) return name;
    return entry.startsWith(`${role} of `) ? `${name}${entry.slice(role.length)}` : undefined;
  };
  const widened = (written: unknown): unknown => {
    const entries: readonly unknown[] = Array.isArray(written) ? written : [written];
    const added = entries.map(other).filter((one) => one !== undefined && !entries.includes(one));
    return added.length === 0 ? written : [...entries, ...added];
  };
  return {
    in<T extends object>(mapping: T, keys: readonly (keyof T & string)[]): T {
      if (!isMapping(mapping)) return mapping;
      const changed = keys.flatMap((key) => {
        const value = mapping[key];
        const wider = value === undefined ? value : widened(value);
        return wider === value ? [] : [[key, wider] as const];
      });
      return changed.length === 0 ? mapping : { ...mapping, ...Object.fromEntries(changed) };
    },
  };
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
