import { describeExpression } from "../../conditions/describe.js";
import { compileTest } from "../../conditions/evaluate.js";
import { operandsWithin, visitTests } from "../../conditions/expression.js";
import { rawValue } from "../../conditions/read.js";
import type { Row } from "../../conditions/source.js";
import { True } from "../../conditions/truth.js";
import { actionOf } from "../../rules/actions.js";
import { ruleTest } from "../../rules/effects.js";
import { readProtectionWho } from "../../rules/protections.js";
import type { Rule } from "../../rules/rule.js";
import { recordAddress } from "../../schema/address.js";
import { PortierError } from "../../schema/problems.js";
import type { Field } from "../../schema/schema.js";
import { compileTruth } from "../../session/conditions.js";
import { internals } from "../../session/internals.js";
import { protectionIn } from "../../session/kept-protections.js";
import { makeReading, toNobody } from "../../session/reading.js";
import type { Session } from "../../session/session.js";

import { stepTests } from "../../session/step.js";
import { RecordSets, sizeOf } from "../record-sets.js";
import { type LintData, type LintInput, nameOf } from "./warnings.js";

/** What only records show. */
export function dataChecks(input: LintInput): void {
  const { data, ruleset } = input;
  if (data === undefined) return;
  const sessions = openAll(input, data);
  rolesNobodyHolds(input, sessions);
  tooFewHold(input, sessions);
  const sets = new Map([...data.tables].map(([name, rows]) => [name, new RecordSets(rows)]));
  for (const rule of ruleset.rules) {
    const rows = data.tables.get(rule.table.name) ?? [];
    const own = sets.get(rule.table.name);
    if (own === undefined || rows.length === 0) continue;
    mostlyNull(input, rule, rows);
    wideContains(input, rule, rows, data);
    metByNone(input, rule, sessions, own);
  }
}

/** Protections that no longer name anybody raise a warning; where one cannot be read at all, nobody can sign in. */
function readableProtections(
  { ruleset, warnings }: Pick<LintInput, "ruleset" | "warnings">,
  tables: LintData["tables"],
): boolean {
  const kept = ruleset.schema.kept?.protections;
  let isReadable = true;
  for (const row of kept === undefined ? [] : (tables.get(kept.name) ?? [])) {
    const id = String(row["id"]);
    const add = (what: string) => warnings.add("unreadable-protection", { id, what }, ["people", "assignments"]);
    try {
      const protection = kept && protectionIn(ruleset.schema, kept, row);
      if (protection === undefined)
        add(`no cells of "${String(row["table"])}" are protected as data, so it does nothing`);
      for (const name of protection?.to ?? []) {
        if (readProtectionWho(name, ruleset) === undefined)
          add(`"${name}" is not a role, group or person, and lets nobody in`);
      }
    } catch (error) {
      if (!(error instanceof PortierError)) throw error;
      isReadable = false;
      add(`${error.problems[0]?.message ?? error.message}, so nobody can sign in`);
    }
  }
  return isReadable;
}

/** The sessions of all who can sign in. Who holds a role that is none, or of whom something unreadable is set, cannot. */
function openAll({ portier, ruleset, warnings, request }: LintInput, { tables, source }: LintData): Session[] {
  const { people } = ruleset.schema;
  if (people === undefined || !readableProtections({ ruleset, warnings }, tables)) return [];
  const sessions = [portier.session({ person: null, source, request, onDiagnostic: toNobody })];
  const unknownRoles = new Map<string, { name: string; where: string; persons: string[] }>();
  for (const person of tables.get(people.table.name) ?? []) {
    try {
      sessions.push(portier.session({ person, source, request, onDiagnostic: toNobody }));
    } catch (error) {
      if (!(error instanceof PortierError)) throw error;
      if (error.code === "bad-setting") {
        const what = error.problems[0]?.message ?? error.message;
        const facts = { person: recordAddress(people.table, person) ?? "somebody", what };
        warnings.add("unreadable-setting", facts, ["people", "settings"]);
        continue;
      }
      if (error.code !== "unknown-role" && error.code !== "wrong-scope") throw error;
      for (const { name, where } of strangeRoles(person)) {
        const found = unknownRoles.get(`${name} ${where}`) ?? { name, where, persons: [] };
        unknownRoles.set(`${name} ${where}`, found);
        found.persons.push(recordAddress(people.table, person) ?? "somebody");
      }
    }
  }
  for (const unknownRole of unknownRoles.values()) {
    warnings.add("unknown-role-value", { ...unknownRole, candidates: ruleset.schema.roles.keys() }, [
      "people",
      "roles",
    ]);
  }
  return sessions;

  function* strangeRoles(person: Row): Iterable<{ name: string; where: string }> {
    for (const given of people?.roles ?? []) {
      const isField = given.kind === "field";
      const field = isField ? given.field : given.role;
      const key = people && recordAddress(people.table, person);
      const rows = isField ? [person] : [...(source.referring?.(given.table.name, given.person.name, key ?? "") ?? [])];
      for (const value of rows.flatMap((row) => rawValue(row, field.name) ?? [])) {
        const role = ruleset.schema.roles.get(String(value));
        const where = `"${field.name}" of "${field.table}"`;
        const isGroup = !isField && given.isMixed && ruleset.groups.has(String(value));
        if (role === undefined && !isGroup) yield { name: String(value), where };
      }
    }
  }
}

function rolesNobodyHolds({ ruleset, warnings }: LintInput, sessions: readonly Session[]): void {
  if (sessions.length === 0) return;
  const held = new Set(sessions.flatMap(({ roles }) => roles));
  for (const rule of ruleset.rules) {
    if (rule.to.length === 0 || !rule.to.every((who) => who.kind === "member" && ruleset.schema.roles.has(who.name)))
      continue;
    const roles = rule.to.map(({ text }) => text);
    if (!roles.some((role) => held.has(role))) warnings.add("role-not-held", { rule: nameOf(rule), roles }, rule.path);
  }
}

function tooFewHold({ ruleset, warnings }: LintInput, sessions: readonly Session[]): void {
  for (const role of ruleset.schema.roles.values()) {
    if (role.minHolders === 0) continue;
    const holders = new Map<string | undefined, number>(role.scope === undefined ? [[undefined, 0]] : []);
    for (const { roles } of sessions) {
      for (const one of roles) {
        const on =
          one === role.name ? undefined : one.startsWith(`${role.name} of `) ? one.slice(role.name.length + 4) : null;
        if (on !== null) holders.set(on, (holders.get(on) ?? 0) + 1);
      }
    }
    for (const [on, held] of holders) {
      const facts = { role: role.name, on, held, minHolders: role.minHolders };
      if (held < role.minHolders) warnings.add("too-few-holders", facts, ["roles", role.name]);
    }
  }
}

/** Fields of the record that a rule compares, and that hold nothing in half of the records or more. */
function mostlyNull({ warnings }: LintInput, rule: Rule, rows: readonly Row[]): void {
  const compared = new Set<Field>();
  const spokenOf = new Set<Field>();
  for (const condition of [rule.where, rule.becomes].filter((one) => one !== undefined)) {
    visitTests(condition, (test) => {
      for (const operand of operandsWithin(test)) {
        if (operand.kind !== "field") continue;
        (test.kind === "is-null" ? spokenOf : compared).add(operand.path[0]);
      }
    });
  }
  for (const field of compared) {
    if (spokenOf.has(field) || !field.optional) continue;
    const nulls = rows.filter((row) => rawValue(row, field.name) === null).length;
    if (nulls * 2 < rows.length) continue;
    warnings.add("mostly-null-field", { rule: nameOf(rule), field: field.name, nulls, all: rows.length }, rule.path);
  }
}

/** How many times more records a `contains` must match than begin with the text, to raise a warning. */
const farMore = 5;

function wideContains({ warnings }: LintInput, rule: Rule, rows: readonly Row[], { source }: LintData): void {
  const reading = makeReading(source, () => {});
  for (const condition of [rule.where, rule.becomes].filter((one) => one !== undefined)) {
    visitTests(condition, (test) => {
      if (test.kind !== "match" || test.how !== "contains" || test.pattern.kind !== "constant") return;
      const count = (how: "contains" | "starts with") => {
        const run = compileTest({ ...test, how });
        return rows.filter((row) => run(row, reading) === True).length;
      };
      const [contains, starts] = [count("contains"), count("starts with")];
      if (starts === 0 || contains < starts * farMore) return;
      warnings.add(
        "wide-contains",
        { rule: nameOf(rule), test: describeExpression(test), contains, starts },
        rule.path,
      );
    });
  }
}

/** A permit whose condition no record meets for any of those whom it is for; what a change must lead to is left out. */
function metByNone({ warnings }: LintInput, rule: Rule, sessions: readonly Session[], sets: RecordSets): void {
  const extent = [...rule.extents].find(([action]) => actionOf(rule.table, action)?.judges !== "new")?.[1];
  if (rule.effect.phase !== "permit" || rule.where.kind === "truth" || extent === undefined) return;
  let isFor = false;
  for (const session of sessions) {
    const { subject, plan, reading } = internals(session);
    const step = stepTests(rule, subject, "stored");
    if (step === undefined) continue;
    isFor = true;
    const judge = (action: string, table: string) => compileTruth(plan.judged(table), action);
    if (sizeOf(sets.meeting(ruleTest(step.who, step.where), reading, judge, subject.classKey())) > 0) return;
  }
  if (isFor) warnings.add("matches-no-record", { rule: nameOf(rule), all: sets.size }, rule.path);
}
