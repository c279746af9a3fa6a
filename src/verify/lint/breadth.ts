import { type Expression, operandsWithin, pushNots, visitOperands, visitTests } from "../../conditions/expression.js";
import { actionOf, knownBy } from "../../rules/actions.js";
import { overlaps, printRange } from "../../rules/ranges.js";
import type { Extent, Rule, Who } from "../../rules/rule.js";
import type { Field } from "../../schema/schema.js";
import type { Session } from "../../session/session.js";
import { type LintInput, nameOf } from "./warnings.js";

/** Rules that let through, or could come to let through, more than was probably meant. */
export const breadthChecks = [
  openToAnyone,
  sensitiveForAnyone,
  blindEdits,
  othersNames,
  oneWayIsolation,
  unlistableReferences,
  severalReserves,
  overlappingRanges,
  nullsInExists,
];

const permitsOf = (rules: readonly Rule[]): Rule[] => rules.filter(({ effect }) => effect.phase === "permit");

/** The view of those whom an entry is for, where it is a role that is held globally. */
function sessionOf({ portier, ruleset, request }: LintInput, who: Who): Session | undefined {
  return who.kind === "member" && ruleset.schema.roles.has(who.name)
    ? portier.sessionForRoles([who.name], { request })
    : undefined;
}

/** Whole records for everybody, or changes by somebody of whom nothing is known. */
function openToAnyone({ ruleset, warnings }: LintInput): void {
  for (const rule of permitsOf(ruleset.rules)) {
    if (!rule.to.some(({ kind }) => kind === "anyone") || rule.except.length > 0) continue;
    const isUnconditional = rule.where.kind === "truth";
    const own = rule.table.fields.filter((field) => !rule.table.key.includes(field) && !field.sensitive);
    const actions = [...rule.extents].flatMap(([action, extent]) => {
      const declared = actionOf(rule.table, action);
      const isWhole = own.length > 1 && own.every((field) => extent.fields.has(field)) && extent.cells === undefined;
      const isReading = declared?.target === "fields" && !declared.writes;
      return isReading ? (isUnconditional && isWhole ? [action] : []) : [action];
    });
    if (actions.length > 0) warnings.add("open-to-anyone", { rule: nameOf(rule), actions }, rule.path);
  }
}

/** Fields that those a rule is for may edit, while nothing lets them see these. */
function blindEdits(input: LintInput): void {
  const { ruleset, warnings } = input;
  const shownAtAll = new Set<Field>();
  for (const rule of ruleset.rules.filter(({ effect }) => effect.phase === "permit")) {
    for (const action of knownBy) {
      for (const field of rule.extents.get(action)?.fields ?? []) shownAtAll.add(field);
    }
  }
  for (const rule of ruleset.rules) {
    const edited = [...(rule.extents.get("edit")?.fields ?? [])].filter((field) => !rule.table.key.includes(field));
    if (rule.effect.phase !== "permit" || edited.length === 0) continue;
    for (const who of rule.to) {
      const session = sessionOf(input, who);
      const blind = edited.filter((field) =>
        session === undefined
          ? !shownAtAll.has(field)
          : knownBy.every((action) => session.reach(action, rule.table.name, field.name) === "none"),
      );
      if (blind.length === 0) continue;
      const fields = blind.map(({ name }) => name);
      warnings.add("edit-without-view", { table: rule.table.name, fields, who: who.text }, rule.path);
    }
  }
}

function sensitiveForAnyone({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    if (rule.effect.phase !== "permit" || !rule.to.some(({ kind }) => kind === "anyone")) continue;
    const shown = [rule.extents.get("list"), rule.extents.get("view")].flatMap((extent) => [...(extent?.fields ?? [])]);
    const fields = [...new Set(shown.filter((field) => field.sensitive).map((field) => field.name))];
    if (fields.length > 0) warnings.add("sensitive-for-anyone", { rule: nameOf(rule), fields }, rule.path);
  }
}

/** Two reserves on one thing: both must be met, which is seldom meant. */
function severalReserves({ ruleset, warnings }: LintInput): void {
  const reserves = ruleset.rules.filter((rule) => rule.effect.name === "reserve");
  for (const [index, rule] of reserves.entries()) {
    for (const other of reserves.slice(index + 1).filter((one) => one.table === rule.table)) {
      const isSame = isSameWho(rule, other);
      for (const [action, extent] of isSame ? [] : rule.extents) {
        const second = other.extents.get(action);
        if (second === undefined || !areasMeet(extent, second)) continue;
        const fields = [...extent.fields].filter((field) => second.fields.has(field)).map(({ name }) => name);
        if (fields.length === 0 && !(extent.act && second.act)) continue;
        const facts = { rules: [nameOf(rule), nameOf(other)], action, fields };
        warnings.add("overlapping-reserves", facts, other.path);
      }
    }
  }
}

/** Whether two extents can have a place in common; without cells they are everywhere. */
function areasMeet({ cells: a }: Extent, { cells: b }: Extent): boolean {
  if (a === undefined || b === undefined) return true;
  return a.ranges.some((one) => b.ranges.some((other) => overlaps(one, other)));
}

/** A null makes a record pass by an `exists`: where a block needs one, or a permit needs none, that lets something through. */
function nullsInExists({ ruleset, warnings }: LintInput): void {
  for (const rule of ruleset.rules) {
    const isPermit = rule.effect.phase === "permit";
    for (const condition of [rule.where, rule.becomes].filter((one) => one !== undefined)) {
      for (const { table, condition: inner } of existsUnder(condition, isPermit)) {
        const fields = nullableFields(inner);
        if (fields.length === 0) continue;
        const facts = { rule: nameOf(rule), effect: rule.effect.name, table, fields };
        warnings.add("null-in-exists", facts, rule.path);
      }
    }
  }
}

type Exists = Extract<Expression, { kind: "exists" }>;

/** The `exists` of a condition, or of its opposite, that do not stand under a "not". */
function existsUnder(condition: Expression, isNegated: boolean): Exists[] {
  const found = (one: Expression): Exists[] => {
    if (one.kind === "and" || one.kind === "or") return one.terms.flatMap(found);
    return one.kind === "exists" ? [one] : [];
  };
  return found(pushNots(condition, isNegated));
}

/** Optional fields that a comparison reads; to ask whether one is null does not rely on it. */
function nullableFields(condition: Expression): string[] {
  const names = new Set<string>();
  visitTests(condition, (test) => {
    if (test.kind === "is-null" || test.kind === "exists") return;
    for (const operand of operandsWithin(test)) {
      if (operand.kind !== "field") continue;
      for (const field of operand.path) if (field.optional) names.add(field.name);
    }
  });
  return [...names];
}

/** What a rule's condition says besides the entries of `to`: whether it reads a field of the record at all. */
function reads(condition: Expression | undefined, field: Field): boolean {
  let found = false;
  if (condition === undefined) return found;
  visitOperands(condition, (operand) => {
    found ||= operand.kind === "field" && operand.path[0] === field;
  });
  return found;
}

/**
 * Making records in another's name: the owner is free, although who makes them may not set it on records of others. Who
 * may is not let do anything more by it.
 */
function othersNames(input: LintInput): void {
  for (const rule of permitsOf(input.ruleset.rules)) {
    const owner = rule.table.owner?.[0];
    // A person's own record is in nobody's name yet.
    if (
      owner === undefined ||
      rule.table.key.includes(owner) ||
      !(["create", "import"] as const).some((one) => rule.extents.get(one)?.fields.has(owner))
    )
      continue;
    if (reads(rule.where, owner) || reads(rule.becomes, owner)) continue;
    const free = rule.to.filter((who) => {
      const reach = sessionOf(input, who)?.reach("edit", rule.table.name, owner.name) ?? "none";
      return (reach === "none" || reach === "own") && who.text !== "owner";
    });
    if (free.length === 0) continue;
    input.warnings.add("create-for-another", { rule: nameOf(rule), field: owner.name }, rule.path);
  }
}

/** A block on what is seen and edited by a field that somebody may edit, which looks at the record before a change alone. */
function oneWayIsolation({ ruleset, warnings }: LintInput): void {
  const editable = new Set(permitsOf(ruleset.rules).flatMap((rule) => [...(rule.extents.get("edit")?.fields ?? [])]));
  for (const rule of ruleset.rules) {
    const isBlock = rule.effect.phase === "block";
    const shows = rule.extents.has("view") || rule.extents.has("list");
    if (!isBlock || !shows || !rule.extents.has("edit") || rule.alsoAfter || rule.becomes !== undefined) continue;
    const fields = rule.table.fields.filter((field) => editable.has(field) && reads(rule.where, field));
    const names = fields.map(({ name }) => name);
    if (names.length > 0) warnings.add("isolation-before-only", { rule: nameOf(rule), fields: names }, rule.path);
  }
}

/** References that people may set, to records of which they list none: there is nothing to choose from. */
function unlistableReferences(input: LintInput): void {
  for (const rule of permitsOf(input.ruleset.rules)) {
    const set = new Set((["create", "edit"] as const).flatMap((one) => [...(rule.extents.get(one)?.fields ?? [])]));
    for (const field of set) {
      const { target } = field.type;
      if (target === undefined || field.by !== undefined) continue;
      for (const who of rule.to) {
        const session = sessionOf(input, who);
        if (session === undefined || session.reach("list", target) !== "none") continue;
        const facts = { rule: nameOf(rule), who: who.text, field: field.name, target };
        input.warnings.add("unlistable-reference", facts, rule.path);
      }
    }
  }
}

/** Two permits on ranges that overlap in part, for different people: where they meet, both may. */
function overlappingRanges({ ruleset, warnings }: LintInput): void {
  const ranged = permitsOf(ruleset.rules).filter(({ table }) => table.grid !== undefined);
  for (const [index, rule] of ranged.entries()) {
    for (const other of ranged.slice(index + 1).filter(({ table }) => table === rule.table)) {
      if (isSameWho(rule, other)) continue;
      for (const [action, extent] of rule.extents) {
        const second = other.extents.get(action);
        if (extent.cells === undefined || second?.cells === undefined) continue;
        const meeting = extent.cells.ranges.flatMap((one) =>
          (second.cells?.ranges ?? []).filter((two) => overlaps(one, two)).map((two) => [one, two] as const),
        );
        const [first] = meeting;
        if (first === undefined || !areasMeet(extent, second)) continue;
        const facts = { rules: [nameOf(rule), nameOf(other)], ranges: first.map(printRange), action };
        warnings.add("overlapping-ranges", facts, other.path);
      }
    }
  }
}

function isSameWho(a: Rule, b: Rule): boolean {
  const text = ({ to }: Rule) => to.map((who) => who.text).join();
  return text(a) === text(b);
}
