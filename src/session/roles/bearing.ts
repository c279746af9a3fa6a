import { type Expression, personConditions, visitOperands, visitTests } from "../../conditions/expression.js";
import type { Group, Member } from "../../rules/groups.js";
import type { Ruleset } from "../../rules/ruleset.js";
import type { Field } from "../../schema/schema.js";

/** By table, the fields from which roles and settings come: a change to one is an assignment or a revocation. */
export type RoleBearing = ReadonlyMap<string, ReadonlySet<Field>>;

const known = new WeakMap<Ruleset, { readonly fields: RoleBearing; readonly reachOthers: boolean }>();

/**
 * The fields of a document that bear roles: those of the person that name them, all of a link table's, whether the person
 * is active, and what the conditions of groups that bring roles ask of the person.
 */
export function roleBearing(ruleset: Ruleset): RoleBearing {
  return worked(ruleset).fields;
}

/** Whether a person's record can change what others hold: a group that brings roles asks about other persons' records. */
export function rolesReachOthers(ruleset: Ruleset): boolean {
  return worked(ruleset).reachOthers;
}

/**
 * The fields that say what anybody is: those that bear roles, the manager line, all that the conditions of groups read, also
 * of other records, whether the groups bring roles or not, and what rules look for of the current user: that something is
 * shared with them, say.
 */
export function standingFields(ruleset: Ruleset): readonly Field[] {
  const { schema, groups } = ruleset;
  const found = new Set<Field>();
  const add = (field: Field | undefined) => field && found.add(field);
  for (const own of workOut(ruleset, [...groups.values()]).fields.values()) own.forEach(add);
  const { people } = schema;
  for (const field of [...(people?.table.key ?? []), people?.active, people?.manager]) add(field);
  const read = (condition: Expression): void => {
    visitOperands(condition, (operand) => {
      // What a rule is about is a record like any other.
      const isOfRule =
        (operand.kind === "outer" || operand.kind === "around") && operand.path[0].table !== people?.table.name;
      if ("path" in operand && !isOfRule) operand.path.forEach(add);
    });
    visitTests(condition, (test) => {
      personConditions(test).forEach(read);
      if (test.kind === "exists") readRecords(test);
    });
  };
  const readRecords = (test: Extract<Expression, { kind: "exists" }>): void => {
    // That there is such a record counts, whatever is asked of it.
    for (const field of [...(schema.tables.get(test.table)?.key ?? []), ...(test.link?.path ?? [])]) add(field);
    read(test.condition);
  };
  for (const { where, becomes, to, except } of ruleset.rules) {
    const met = [...to, ...except].flatMap((who) => (who.kind === "related" ? [who.met] : []));
    for (const condition of [where, ...(becomes === undefined ? [] : [becomes]), ...met]) {
      visitTests(condition, (test) => {
        if (test.kind === "exists" && asksForPerson(test)) readRecords(test);
      });
    }
  }
  for (const { where, members, without } of groups.values()) {
    read(where);
    for (const member of [...members, ...without]) if (member.kind === "where") read(member.condition);
  }
  return [...found];
}

function asksForPerson(test: Expression): boolean {
  let isAsked = false;
  visitOperands(test, ({ kind }) => {
    isAsked ||= kind === "me" || kind === "held";
  });
  return isAsked;
}

function worked(ruleset: Ruleset) {
  const made = known.get(ruleset) ?? workOut(ruleset, groupsWithRoles(ruleset));
  known.set(ruleset, made);
  return made;
}

function workOut(ruleset: Ruleset, groups: readonly Group[]) {
  const fields = new Map<string, Set<Field>>();
  let reachOthers = false;
  const { people } = ruleset.schema;
  const bears = (field: Field | undefined) => {
    if (field === undefined) return;
    const own = fields.get(field.table) ?? new Set<Field>();
    fields.set(field.table, own.add(field));
  };
  for (const source of people?.roles ?? []) {
    if (source.kind === "field") bears(source.field);
    else for (const field of [source.person, source.role, source.on, source.from, source.until]) bears(field);
  }
  const { settings } = people ?? {};
  if (settings !== undefined) {
    const { person, on, field, level, record, from, until } = settings;
    for (const one of [person, on, field, level, record, from, until]) bears(one);
  }
  if (people !== undefined && (people.roles.length > 0 || groups.length > 0)) {
    bears(people.active);
    for (const key of people.table.key) bears(key);
  }
  const read = (condition: Expression): void => {
    visitOperands(condition, (operand) => {
      if (!("path" in operand)) return;
      for (const field of operand.path) if (field.table === people?.table.name) bears(field);
      reachOthers ||= operand.path.length > 1;
    });
    visitTests(condition, (test) => {
      for (const ofOthers of personConditions(test)) {
        bears(people?.manager);
        reachOthers = true;
        read(ofOthers);
      }
    });
  };
  for (const { where, members, without } of groups) {
    read(where);
    for (const member of [...members, ...without]) {
      if (member.kind === "where") read(member.condition);
      const isLine = member.kind === "member" && ruleset.lines.has(member.name);
      if (member.kind !== "along" && !isLine) continue;
      bears(people?.manager);
      reachOthers = true;
    }
  }
  return { fields, reachOthers };
}

/** The groups that bring roles, and those that are in them. */
function groupsWithRoles({ groups, lines }: Ruleset): Group[] {
  const found = new Set<Group>();
  const add = (group: Group | undefined) => {
    if (group === undefined || found.has(group)) return;
    found.add(group);
    const named = (member: Member) => (member.kind === "member" ? [lines.get(member.name)?.of ?? member.name] : []);
    for (const name of [...group.members, ...group.without].flatMap(named)) add(groups.get(name));
  };
  for (const group of groups.values()) if (group.roles.length > 0) add(group);
  return [...found];
}
