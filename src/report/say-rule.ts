import { True } from "../conditions/truth.js";
import { type ActionName, actionOf } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import { readLine } from "../rules/lines.js";
import { printRange } from "../rules/ranges.js";
import type { Extent, Rule, Who } from "../rules/rule.js";
import type { Schema, Table } from "../schema/schema.js";
import { dayIn, startOfDay } from "../schema/types/date.js";
import { listed, sayCondition, sayDistance } from "./say-condition.js";

/** A rule in a plain sentence: who, what, on which records. Days are those of the document's time zone. */
export function sayRule(rule: Rule, schema: Schema): string {
  const { effect, to, except } = rule;
  const isForAll = except.length === 0 && to.some(({ kind }) => kind === "anyone");
  return `${sentences[effect.name](capital(sayWho(rule)), sayWhat(rule, schema), isForAll)}.`;
}

/** The same for a list of what the holders of a role may and may not: without who. */
export function sayRoleRule(rule: Rule, schema: Schema): string {
  return roleSentences[rule.effect.name](sayWhat(rule, schema));
}

const sentences: Readonly<Record<EffectName, (who: string, what: string, isForAll: boolean) => string>> = {
  permit: (who, what) => `${who} may ${what}`,
  deny: (who, what, isForAll) =>
    isForAll ? `Nobody may ${what}, whatever permits it` : `${who} may not ${what}, whatever else permits it`,
  reserve: (who, what) => `Only ${who.charAt(0).toLowerCase()}${who.slice(1)} may ${what}, as far as a rule permits it`,
  confirm: (who, what) => `${who} must confirm to ${what}`,
};

const roleSentences: Readonly<Record<EffectName, (what: string) => string>> = {
  permit: (what) => `May ${what}`,
  deny: (what) => `May not ${what}, whatever else permits it`,
  reserve: (what) => `Is among those who alone may ${what}, as far as a rule permits it`,
  confirm: (what) => `Must confirm to ${what}`,
};

/** `edit label where status is "shown", from 2027-01-01 on`. */
function sayWhat(rule: Rule, schema: Schema): string {
  const { where, from, until, alsoAfter } = rule;
  const ways = alsoAfter ? " before or after a change" : "";
  const condition =
    where.kind === "truth" && where.value === True ? "" : ` where${ways} ${sayCondition(where, schema)}`;
  const periods = [
    ...(from === undefined ? [] : [`from ${sayInstant(from, schema.timeZone)} on`]),
    ...(until === undefined ? [] : [`until ${sayInstant(until, schema.timeZone)}`]),
  ];
  return [`${listed(sayExtents(rule))}${condition}${sayAfterwards(rule, schema)}`, ...periods].join(", ");
}

/** What a permit's change must lead to; or which change it is that a block or a confirmation is about. */
function sayAfterwards({ becomes, effect, where }: Rule, schema: Schema): string {
  if (becomes === undefined) return "";
  const isAny = becomes.kind === "truth" && becomes.value === True;
  if (effect.phase === "permit") {
    if (!isAny) return `, as long as afterwards ${sayCondition(becomes, schema)}`;
    return where.kind === "truth" ? "" : ", whatever it is afterwards";
  }
  return isAny ? "" : ` so that afterwards ${sayCondition(becomes, schema)}`;
}

/** An instant; one at which a day begins, as that day. */
function sayInstant(instant: string, timeZone: string): string {
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
    .map(
      ({ text }) =>
        sayLine(text) ?? text.replace(/ of this$/, " of the record").replace(/ of (?!the record)/, " of its "),
    );
  const others = entries.filter((entry) => !isNamed(entry)).map(sayEntry);
  return listed([...others, ...(named.length === 0 ? [] : [`whoever is ${listed(named, "or")}`])], "or");
}

/** `keeper or at most 2 levels below one`; undefined for what is not a line. */
function sayLine(text: string): string | undefined {
  const line = readLine(text);
  return line && `${line.of} or ${sayDistance(line)} one`;
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
  return [...byWhat].map(
    ([what, actions]) => `${listed(actions.map((name) => (name === "bulk" ? "bulk-edit" : name)))} ${what}`,
  );
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
  const told = missing.filter((field) => !table.key.includes(field)).map(({ label }) => label);
  if (told.length === 0) return "everything";
  if (told.length <= fewMissing && fields.size > fewMissing + 1) return `everything but ${listed(told)}`;
  return listed(
    [...fields].filter((field) => fields.size === 1 || !table.key.includes(field)).map(({ label }) => label),
  );
}
