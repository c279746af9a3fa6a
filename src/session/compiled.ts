import type { Group } from "../rules/groups.js";
import type { Line } from "../rules/lines.js";
import type { CellRange } from "../rules/ranges.js";
import type { Rule } from "../rules/rule.js";
import { makeRuleset, type Ruleset } from "../rules/ruleset.js";
import type { Screen } from "../rules/screens.js";
import { portierError } from "../schema/problems.js";
import { keptTablesOf, meansNothing, type People, type Role, type Schema } from "../schema/schema.js";
import { checksumOf } from "./checksum.js";
import { decode, decodeTables, encode, encodeTable } from "./encoding.js";
import { internals } from "./internals.js";
import type { AnyRules } from "./open-rules.js";

/**
 * A document that has been checked, with every name resolved, as plain JSON: what opens it needs no reader of conditions and
 * makes no checks. Made by {@link compiledOf}, opened by {@link openCompiled}; what is inside may change with every version.
 */
export interface CompiledDocument {
  /** The version of the format; another is refused. */
  readonly portier: "compiled 1";
  /** A check of all the rest: one that was cut or changed on its way is not opened. It keeps nobody from making another. */
  readonly check: string;
  /** Tables, and whatever else stands in a document. */
  readonly tables: readonly unknown[];
  readonly parts: unknown;
}

/** What is encoded besides tables: all without what was meant and where it stood, which is for whoever writes the rules. */
interface Parts {
  readonly declared: readonly string[];
  readonly kept: readonly [assignments: string, delegations: string, protections?: string] | undefined;
  readonly people: Omit<People, "ignore"> | undefined;
  readonly roles: readonly Omit<Role, "ignore">[];
  readonly request: Schema["request"];
  readonly timeZone: string;
  readonly groups: readonly Omit<Group, "ignore">[];
  readonly screens: readonly Omit<Screen, "ignore">[];
  readonly rules: readonly Omit<Rule, "ignore" | "path">[];
  readonly lines: ReadonlyMap<string, Line>;
  readonly ranges: ReadonlyMap<string, ReadonlyMap<string, CellRange>>;
}

/**
 * The document as plain JSON, for a browser or a server that starts often.
 *
 * @example
 * writeFileSync("rules.json", JSON.stringify(compiledOf(compile(document))));
 */
export function compiledOf(rules: AnyRules): CompiledDocument {
  const { schema, groups, screens, rules: all, lines, ranges } = internals(rules).ruleset;
  const kept = keptTablesOf(schema);
  const withoutIgnored = <V extends { readonly ignore: unknown }>({ ignore: _, ...rest }: V) => rest;
  const parts: Parts = {
    declared: [...schema.tables.keys()],
    kept: schema.kept && (kept.map(({ name }) => name) as [string, string, string?]),
    people: schema.people && withoutIgnored(schema.people),
    roles: [...schema.roles.values()].map(withoutIgnored),
    request: schema.request,
    timeZone: schema.timeZone,
    groups: [...groups.values()].map(withoutIgnored),
    screens: [...screens.values()].map(withoutIgnored),
    rules: all.map(({ ignore: _meant, path: _path, ...rest }) => rest),
    lines,
    ranges,
  };
  const content = {
    tables: [...schema.tables.values(), ...kept].map((table) => encodeTable(table)),
    parts: encode(parts),
  };
  return { portier: "compiled 1", check: checksumOf(content), ...content };
}

/** The rules of a document that was compiled before. Throws as `openCompiled` does. */
export function rulesetFrom(document: CompiledDocument): Ruleset {
  const problem = problemOf(document);
  if (problem !== undefined) throw portierError("wrong-call", { what: problem, hint: "make it anew with compiledOf" });
  const tables = decodeTables(document.tables);
  const { declared, kept, people, roles, request, timeZone, groups, screens, rules, lines, ranges } = decode(
    document.parts,
    tables,
  ) as Parts;
  const ignore = meansNothing;
  const named = <V extends { readonly name: string }>(list: readonly V[]) =>
    new Map(list.map((one) => [one.name, { ...one, ignore }]));
  const table = (name: string) => {
    const found = tables.get(name);
    if (found === undefined)
      throw portierError("wrong-call", { what: `"${name}" is not a table of it`, hint: "make it anew" });
    return found;
  };
  const schema: Schema = {
    tables: new Map(declared.map((name) => [name, table(name)])),
    people: people && { ...people, ignore },
    request,
    roles: named(roles) as Map<string, Role>,
    timeZone,
    kept: kept && {
      assignments: table(kept[0]),
      delegations: table(kept[1]),
      protections: kept[2] === undefined ? undefined : table(kept[2]),
    },
  };
  return makeRuleset({
    schema,
    groups: named(groups) as Map<string, Group>,
    screens: named(screens) as Map<string, Screen>,
    rules: rules.map((rule) => ({ ...rule, ignore, path: [] })) as readonly Rule[],
    lines,
    ranges,
  });
}

function problemOf(document: CompiledDocument): string | undefined {
  if (document?.portier !== "compiled 1") return "this is not a compiled document of this version";
  const { tables, parts } = document;
  return document.check === checksumOf({ tables, parts })
    ? undefined
    : "this document is damaged: it is not as it was made";
}
