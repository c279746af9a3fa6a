import type { RuleInput } from "../schema/document.js";
import type { Observation } from "../session/observation.js";
import { groupBy } from "./compared-plans.js";

/** What would have been refused in the same way, of however many calls. */
export interface ObservedRefusal extends Pick<Observation, "table" | "action" | "fields" | "reason" | "rule"> {
  /** How many calls, and how many records in all of them. */
  readonly calls: number;
  readonly records: number;
  /** The keys of the persons, in alphabetical order; null for visitors. */
  readonly people: readonly (string | null)[];
  /** The roles that all of them held. */
  readonly roles: readonly string[];
  /** Whether each record was its person's own. */
  readonly own: boolean;
}

/** A rule that would permit what none does. It is a beginning: whether that was meant, its reader decides. */
export interface ProposedRule {
  readonly table: string;
  readonly name: string;
  readonly rule: RuleInput;
  /** Whom it was observed of. */
  readonly people: readonly string[];
}

export interface ObservedSummary {
  /** Those of the most calls first. */
  readonly refusals: readonly ObservedRefusal[];
  readonly proposals: readonly ProposedRule[];
  /** What people without any role, or visitors, would need: no rule is proposed for everybody. */
  readonly ofNoRole: readonly ObservedRefusal[];
}

/** What was observed, put together: what would be refused to whom, and which rules would permit what none does. */
export function summarizeObserved(observations: readonly Observation[]): ObservedSummary {
  const groups = groupBy(observations, ({ table, action, fields, reason, rule }) => [
    ...[table, action, fields, reason, rule],
  ]);
  const refusals = groups.map(refusalOf).sort((a, b) => b.calls - a.calls || (a.table < b.table ? -1 : 1));
  // A role on one record is none that a rule could be for: that is said by a path, which nobody can tell from here.
  const isHeldAsSuch = (role: string) => !role.includes(" of ");
  const lacking = observations
    .filter(({ reason }) => reason === "not-permitted" || reason === "not-found")
    .map((one) => ({ ...one, roles: one.roles.filter(isHeldAsSuch) }));
  const unheld = lacking.filter(({ roles, own }) => roles.length === 0 && !own);
  return {
    refusals,
    proposals: proposalsFor(lacking.filter((one) => !unheld.includes(one))),
    ofNoRole: groupBy(unheld, ({ table, action, fields }) => [table, action, fields]).map(refusalOf),
  };
}

function refusalOf(group: readonly Observation[]): ObservedRefusal {
  const [{ table, action, fields, reason, rule }] = group as [Observation, ...Observation[]];
  const people = [...new Set(group.map(({ person }) => person))].sort((a, b) => (String(a) < String(b) ? -1 : 1));
  return {
    ...{ table, action, fields, reason, rule },
    calls: group.length,
    records: group.reduce((sum, { records }) => sum + records, 0),
    people,
    roles: sharedRoles(group),
    own: group.every(({ own }) => own),
  };
}

function sharedRoles(group: readonly Observation[]): string[] {
  const [first, ...more] = group.map(({ roles }) => roles);
  return (first ?? []).filter((role) => more.every((roles) => roles.includes(role)));
}

/** One field for an action, or the act itself, with whoever lacked it. */
interface Lack {
  readonly table: string;
  readonly action: string;
  readonly field: string | undefined;
  readonly of: readonly Observation[];
}

/**
 * For each field and action the fewest roles that take in all who lacked it, the rarest ones first; `owner` where everybody
 * lacked it of their own records. What is for the same people is one rule.
 */
function proposalsFor(lacking: readonly Observation[]): ProposedRule[] {
  const holders = new Map<string, Set<string | null>>();
  for (const { roles, person } of lacking) {
    for (const role of roles) holders.set(role, (holders.get(role) ?? new Set()).add(person));
  }
  const rules = new Map<
    string,
    { table: string; to: string[]; permit: Map<string, Set<string>>; people: Set<string> }
  >();
  for (const { table, action, field, of } of lacksIn(lacking)) {
    const to = of.every(({ own }) => own) ? ["owner"] : rolesFor(of, holders);
    const id = JSON.stringify([table, to]);
    const rule = rules.get(id) ?? { table, to, permit: new Map<string, Set<string>>(), people: new Set<string>() };
    rules.set(id, rule);
    rule.permit.set(action, (rule.permit.get(action) ?? new Set()).add(field ?? "yes"));
    for (const { person } of of) if (person !== null) rule.people.add(person);
  }
  return [...rules.values()].map(({ table, to, permit, people }) => ({
    table,
    name: `proposed-for-${to.map(slug).join("-and-")}`,
    rule: {
      to: to.length === 1 ? (to[0] as string) : to,
      permit: Object.fromEntries([...permit].map(([action, fields]) => [action, extentOf([...fields])])),
    },
    people: [...people].sort(),
  }));
}

function extentOf(fields: readonly string[]): string | string[] {
  const named = fields.filter((field) => field !== "yes").sort();
  return named.length === 0 ? "yes" : named;
}

function lacksIn(lacking: readonly Observation[]): Lack[] {
  const asked = lacking.flatMap((of) => {
    const fields: (string | undefined)[] = of.fields.length === 0 ? [undefined] : [...of.fields];
    return fields.map((field) => ({ table: of.table, action: of.action, field, of }));
  });
  return groupBy(asked, ({ table, action, field }) => [table, action, field]).map((group) => {
    const [{ table, action, field }] = group as [(typeof group)[number], ...typeof group];
    return { table, action, field, of: group.map((one) => one.of) };
  });
}

function rolesFor(of: readonly Observation[], holders: ReadonlyMap<string, ReadonlySet<unknown>>): string[] {
  let left = of.filter(({ own }) => !own);
  const chosen: string[] = of.some(({ own, roles }) => own && roles.length === 0) ? ["owner"] : [];
  while (left.length > 0) {
    const candidates = [...new Set(left.flatMap(({ roles }) => roles))].sort();
    const covered = (role: string) => left.filter(({ roles }) => roles.includes(role)).length;
    const rare = (role: string) => holders.get(role)?.size ?? 0;
    const [best] = candidates.sort((a, b) => covered(b) - covered(a) || rare(a) - rare(b));
    if (best === undefined) break;
    chosen.push(best);
    left = left.filter(({ roles }) => !roles.includes(best));
  }
  return chosen.sort();
}

/** A role's name as a part of a rule's. */
function slug(name: string): string {
  const plain = name.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-");
  return plain.replaceAll(/^-+|-+$/g, "") || "some";
}
