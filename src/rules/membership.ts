import { and, type Expression, never, not, type Operand, or } from "../conditions/expression.js";
import { specialize, specializeOperand } from "../conditions/specialize.js";
import { type People, type Schema, singleKey } from "../schema/schema.js";
import type { Carrier, Group, Member } from "./groups.js";
import { back, type Line, readLine, type WrittenLine } from "./lines.js";

/** Where the parts of a membership are found. */
export interface MembershipSource {
  readonly schema: Schema;
  readonly group: (name: string) => Group | undefined;
  /** The groups that bring a role. */
  readonly carriers: (role: string) => readonly Carrier[];
  /** What makes a person other than the one at hand a member, as a condition on their own record. */
  readonly members: { readonly of: (name: string) => Expression };
}

/** What a membership comes down to, besides groups and lines; as conditions on the person's own record. */
export interface MembershipLeaves {
  /** A role, group or line that another one leads to: {@link membership} again. */
  readonly member: (name: string) => Expression;
  /** The role, or one that includes it, is given to them, and counts. */
  readonly given: (role: string) => Expression;
  /** What a role that a group carries brings counts; undefined where it always does. */
  readonly sound: (role: string) => Expression | undefined;
  /** They are assigned to the group by its name; undefined where nobody can be. */
  readonly assigned: (group: string) => Expression | undefined;
}

/** Whether a person holds a role, is in a group or belongs to a line, as a condition on their own record. */
export function membership(name: string, source: MembershipSource, leaves: MembershipLeaves): Expression {
  const line = readLine(name);
  if (line !== undefined) return or([leaves.member(line.of), lineTest(line, source)]);
  const group = source.group(name);
  if (group !== undefined) return inGroup(group, source, leaves);
  const carried = source.carriers(name).map((carrier) => {
    const sound = leaves.sound(carrier.role.name);
    return and([leaves.member(carrier.group.name), ...(sound === undefined ? [] : [sound])]);
  });
  return or([leaves.given(name), ...carried]);
}

/** Whether somebody is where a line begins, on the way back along the managers from the person whose record this is. */
function lineTest({ direction, levels, of }: WrittenLine, { schema, members }: LineSource): Expression {
  const { people } = schema;
  return people === undefined ? never : alongLine(people, back[direction], levels, members.of(of));
}

interface LineSource {
  readonly schema: Schema;
  readonly members: { readonly of: (name: string) => Expression };
}

/** The lines among some names, as memberships know them. */
export function linesAmong(names: Iterable<string>, source: LineSource): Map<string, Line> {
  const lines = new Map<string, Line>();
  for (const name of names) {
    const line = readLine(name);
    if (line !== undefined) lines.set(name, { of: line.of, test: lineTest(line, source) });
  }
  return lines;
}

function inGroup({ name, members, where, without }: Group, source: MembershipSource, leaves: MembershipLeaves) {
  const any = (list: readonly Member[]) => or(list.map((member) => meets(member, source, leaves)));
  const assigned = leaves.assigned(name);
  return and([
    or([any(members), ...(assigned === undefined ? [] : [assigned])]),
    ofOwnRecord(where),
    not(any(without)),
  ]);
}

function meets(member: Member, source: MembershipSource, leaves: MembershipLeaves): Expression {
  switch (member.kind) {
    case "member":
      return leaves.member(member.name);
    case "where":
      return ofOwnRecord(member.condition);
    case "person":
      return isPerson(member.key, source.schema);
    case "along":
      return or([isPerson(member.key, source.schema), member.test]);
    default:
      return member satisfies never;
  }
}

function isPerson(key: Operand, { people }: Schema): Expression {
  const own = people && singleKey(people.table);
  if (own === undefined) return or([]);
  return { kind: "compare", op: "=", left: { kind: "field", type: own.type, path: [own] }, right: key };
}

/** Somebody who is above or below one person, who is named, at most some levels away. */
export function awayFrom(
  key: Operand,
  direction: "above" | "below",
  levels: number | undefined,
  schema: Schema,
): Expression {
  const { people } = schema;
  const own = people && singleKey(people.table);
  if (people?.manager === undefined || own === undefined) return or([]);
  if (direction === "below" && levels === undefined) {
    // "Above" is looked at from below: the one named is above this person's record.
    return { kind: "above", path: [own], line: people.manager, subject: key };
  }
  return alongLine(people, back[direction], levels, isPerson(key, schema));
}

function alongLine(
  people: People,
  direction: "above" | "below",
  levels: number | undefined,
  condition: Expression,
): Expression {
  const key = singleKey(people.table);
  const { manager: line } = people;
  if (key === undefined || line === undefined) return or([]);
  return { kind: "line", direction, levels, line, key, condition, quantifier: "some" };
}

/** A condition of a group: `me` in it is the person whose record it is about, whoever the current user is. */
function ofOwnRecord(condition: Expression, kind: "field" | "outer" = "field"): Expression {
  switch (condition.kind) {
    case "and":
      return and(condition.terms.map((term) => ofOwnRecord(term, kind)));
    case "or":
      return or(condition.terms.map((term) => ofOwnRecord(term, kind)));
    case "not":
      return not(ofOwnRecord(condition.term, kind));
    case "exists": {
      const { link } = condition;
      const value =
        link &&
        specializeOperand(link.value, (operand) => (operand.kind === "me" ? { ...operand, kind: "outer" } : operand));
      return {
        ...condition,
        condition: ofOwnRecord(condition.condition, "outer"),
        link: link && value && { ...link, value },
      };
    }
    default:
      return specialize(condition, (operand) => (operand.kind === "me" ? { ...operand, kind } : operand));
  }
}
