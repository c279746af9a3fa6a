import { type ActionName, actionOf } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import { printRange } from "../rules/ranges.js";
import type { Extent, Rule, Who } from "../rules/rule.js";
import type { Table } from "../schema/schema.js";
import { dayIn, startOfDay } from "../schema/types/date.js";
import { listed, sayCondition } from "./say-condition.js";

/** A rule in a plain sentence: who, what, on which records. Days are those of the time zone. */
export function sayRule(rule: Rule, timeZone: string): string {
  const { effect, to, except } = rule;
  // A deny for everybody is told as what nobody may.
  const isNobody = effect.name === "deny" && except.length === 0 && to.some(({ kind }) => kind === "anyone");
  if (isNobody) return `Nobody may ${listed(sayExtents(rule))}, whatever permits it${sayConditions(rule, timeZone)}.`;
  return `${capital(sayWho(rule))} ${sayWhat(rule, timeZone)}.`;
}

/** The same without who, for a list of what somebody may: `may view title where status is "shown"`. */
export function sayWhat(rule: Rule, timeZone: string): string {
  return `${verbs[rule.effect.name](listed(sayExtents(rule)))}${sayConditions(rule, timeZone)}`;
}

function sayConditions({ where, becomes, from, until, bothWays }: Rule, timeZone: string): string {
  const conditions = [
    ...(becomes === undefined || becomes.kind === "truth" ? [] : [`as long as afterwards ${sayCondition(becomes)}`]),
    ...(from === undefined ? [] : [`from ${sayMoment(from, timeZone)} on`]),
    ...(until === undefined ? [] : [`until ${sayMoment(until, timeZone)}`]),
  ];
  const ways = bothWays ? " before or after a change" : "";
  const first = where.kind === "truth" ? "" : ` where${ways} ${sayCondition(where)}`;
  return [first, ...conditions].join(", ");
}

const verbs: Readonly<Record<EffectName, (what: string) => string>> = {
  permit: (what) => `may ${what}`,
  deny: (what) => `may not ${what}, whatever else permits it`,
  reserve: (what) => `alone may ${what}, where anything permits it`,
  confirm: (what) => `must confirm to ${what}`,
};

/** An instant; one at which a day begins, as that day. */
function sayMoment(instant: string, timeZone: string): string {
  const day = dayIn(Date.parse(instant), timeZone);
  return startOfDay(day, timeZone) === instant ? day : instant;
}

/** `whoever is keeper or registrar`, `the owner or whoever is above the owner`. */
function sayWho({ to, except, effect }: Rule): string {
  const isAnyone = to.length === 0 || to.some(({ kind }) => kind === "anyone");
  const everybody = effect.name === "confirm" ? "everybody" : "anyone, also who is not signed in,";
  const who = isAnyone ? everybody : sayEntries(to);
  return except.length === 0 ? who : `${who} (but not ${sayEntries(except)})`;
}

/** Roles, groups and roles on a record share one "whoever is". */
function sayEntries(entries: readonly Who[]): string {
  const isNamed = ({ kind, text }: Who) => kind === "member" || / of /.test(text);
  const named = entries
    .filter(isNamed)
    .map(({ text }) => text.replace(/ of this$/, " of the record").replace(/ of (?!the record)/, " of its "));
  const others = entries.filter((entry) => !isNamed(entry)).map(sayEntry);
  return listed([...others, ...(named.length === 0 ? [] : [`whoever is ${listed(named, "or")}`])], "or");
}

function sayEntry({ kind, text }: Who): string {
  if (kind === "signed-in") return "everybody who is signed in";
  if (text === "owner") return "the owner";
  if (text.startsWith("above "))
    return `whoever is above ${text === "above owner" ? "the owner" : `its ${text.slice(6)}`}`;
  return text;
}

/** Facts as one sentence. */
export function sayFacts(facts: readonly string[]): string {
  return `${capital(facts.join("; "))}.`;
}

/** The first letter of a sentence. */
export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

/** `view label and title`, `edit everything but shelf`, `delete the record`; actions on the same things together. */
function sayExtents({ extents, table }: Rule): string[] {
  const byWhat = new Map<string, ActionName[]>();
  for (const [action, extent] of extents) {
    const what = sayExtent(extent, table, action);
    byWhat.set(what, [...(byWhat.get(what) ?? []), action]);
  }
  return [...byWhat].map(([what, actions]) => `${listed(actions)} ${what}`);
}

/** How many fields may be missing from a whole, to be told by what is missing. */
const fewMissing = 3;

function sayExtent({ fields, act, cells }: Extent, table: Table, action: ActionName): string {
  if (cells !== undefined) {
    const out = cells.except.length === 0 ? "" : ` but ${listed(cells.except.map(printRange))}`;
    return `the cells ${listed(cells.ranges.map(printRange))}${out}`;
  }
  if (fields.size === 0) return act ? "records" : "nothing";
  const counted = table.fields.filter((field) => actionOf(table, action)?.writes !== true || !field.computed);
  const missing = counted.filter((field) => !fields.has(field));
  if (missing.length === 0) return "everything";
  // The key is seen with any field, and seldom changed: it is not worth a word.
  const told = missing.filter((field) => !table.key.includes(field)).map(({ name }) => name);
  if (told.length === 0) return "everything";
  if (told.length <= fewMissing && fields.size > fewMissing + 1) return `everything but ${listed(told)}`;
  return listed([...fields].filter((field) => fields.size === 1 || !table.key.includes(field)).map(({ name }) => name));
}
