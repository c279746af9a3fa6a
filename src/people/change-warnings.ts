import type { Source } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { knownBy } from "../rules/actions.js";
import { type ErrorCode, type Facts, PortierError } from "../schema/problems.js";
import type { Role } from "../schema/schema.js";
import type { AssignedRole } from "../session/assigned-roles.js";
import { internals } from "../session/internals.js";
import type { StoredWrite } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import { toNobody } from "../session/reading.js";
import type { Assigner } from "../session/roles/assigner.js";
import { instantIn } from "../session/roles/assignment.js";
import { membershipsOf } from "../session/roles/holdings.js";
import { widensSettings } from "../session/roles/setting-changes.js";
import type { Session } from "../session/session.js";

import { residualText } from "../verify/compared-plans.js";
import { assignmentProblem } from "./assignment-problem.js";
import { affectedPerson, type RoleChange } from "./role-change.js";

/** Something that an assigner must have read before a change is made. */
export interface ChangeWarning {
  /** What to confirm it by: stable for as long as it says the same. */
  readonly id: string;
  readonly code: ErrorCode;
  /** A sentence for whoever assigns. */
  readonly message: string;
}

/** A change with the state before and after it. */
export interface ChangeContext {
  readonly source: Source;
  readonly after: Source;
  readonly change: RoleChange;
  readonly writes: readonly StoredWrite[];
  readonly assigner: Pick<Assigner, "person" | "actedBy" | "claims" | "now" | "request">;
}

/** Whoever a change gives something to, or takes something from, with their sessions before and after it. */
export interface Affected {
  readonly person: string;
  readonly before: Session;
  readonly after: Session;
}

/**
 * The sessions of whoever a change affects, at the instant from which it counts. Of a delegation: what the one who acts
 * may by themselves, and what they may when they act.
 */
export function affectedBy(portier: Portier, { source, after, change, writes, assigner }: ChangeContext): Affected {
  const now = instantOfEffect(writes, assigner.now);
  const request = { ...assigner.request, now };
  if (change.kind === "delegate" || change.kind === "end-delegation") {
    const row = writes[0]?.after ?? writes[0]?.before;
    const acting = { person: String(row?.["of"]), actedBy: change.to, request, onDiagnostic: toNobody };
    const own = portier.session({ person: change.to, source, request, onDiagnostic: toNobody });
    return change.kind === "delegate"
      ? { person: change.to, before: own, after: portier.session({ ...acting, source: after }) }
      : {
          person: change.to,
          before: openOr(
            () => own,
            () => portier.session({ ...acting, source }),
          ),
          after: own,
        };
  }
  const person = affectedPerson(change, portier.schema, writes);
  const [was, is] = [source, after].map((state) =>
    openOr(
      () => portier.session({ person: null, request, onDiagnostic: toNobody }),
      () => portier.session({ person, source: state, request, onDiagnostic: toNobody }),
    ),
  ) as [Session, Session];
  return { person, before: was, after: is };
}

/** The first instant at which a change makes a difference: when it begins, or when what it moves would have ended. */
export function instantOfEffect(writes: readonly StoredWrite[], now: string): string {
  const instants = writes.flatMap(({ before, after }) => {
    const isMoved = before !== undefined && after !== undefined;
    const rows = isMoved ? [before, after] : [after ?? before ?? {}];
    return rows.flatMap((row) => instantIn(row, isMoved ? "until" : "from") ?? []);
  });
  const [first = now] = instants.sort();
  return first > now ? first : now;
}

/** A person whose roles cannot be read may do nothing; so may somebody who does not act for another any more. */
function openOr(instead: () => Session, open: () => Session): Session {
  try {
    return open();
  } catch (error) {
    if (
      error instanceof PortierError &&
      ["unknown-role", "wrong-scope", "bad-setting", "wrong-call"].includes(error.code)
    )
      return instead();
    throw error;
  }
}

/** What an assigner must have read before a change is made. */
export function warningsOf(portier: Portier, context: ChangeContext): ChangeWarning[] {
  const { change, assigner } = context;
  // What ends somebody's acting for another takes nothing from what is theirs, and gives nobody anything.
  if (change.kind === "end-delegation") return [];
  const affected = affectedBy(portier, context);
  const isOwn = affected.person === assigner.person;
  const gained = newlyAssigned(portier, affected.before, affected.after);
  const lost = change.kind === "delegate" ? [] : newlyAssigned(portier, affected.after, affected.before);
  const { person } = affected;
  const about = <C extends "gains-assignable-roles" | "gains-revoking-your-roles" | "loses-assignable-roles">(
    code: C,
    roles: readonly Role[],
  ) => {
    const names = roles.map(({ name }) => name);
    return names.length === 0 ? [] : [warning(code, { person, roles: names } as Facts<C>, names)];
  };
  const brings = (kind: RoleChange["kind"]) => kind === "change-person" || kind === "change-link";
  const isGift =
    change.kind === "assign" ||
    change.kind === "replace" ||
    change.kind === "delegate" ||
    (change.kind === "set" &&
      widensSettings(portier.schema, context.source, context.after, affected.person, assigner.now)) ||
    (brings(change.kind) && holdsMore(affected));
  return [
    ...(isOwn && isGift ? [warning("assigns-oneself", {}, [])] : []),
    ...sensitiveGains(affected),
    ...about("gains-assignable-roles", gained),
    ...about("gains-revoking-your-roles", isOwn ? [] : takenRoles(portier, context, affected)),
    ...about("loses-assignable-roles", isOwn ? lost : []),
  ];
}

export function warning<C extends ErrorCode>(code: C, facts: Facts<C>, about: readonly string[]): ChangeWarning {
  const { message } = assignmentProblem(code, facts);
  return { id: [code, ...about].join(" "), code, message };
}

function holdsMore({ before, after }: Affected): boolean {
  const had = new Set(before.roles);
  return after.roles.some((role) => !had.has(role));
}

/** Roles that one session's person may give, on some record where they are held on one, and the other's may not. */
function newlyAssigned(portier: Portier, before: Session, after: Session): Role[] {
  return [...portier.schema.roles.values()].filter((role) => mayAssignAny(after, role) && !mayAssignAny(before, role));
}

function mayAssignAny(session: Session, role: Role): boolean {
  const { memberships } = internals(session).subject;
  if (memberships === undefined) return false;
  return role.assignableBy.some(({ name, ofThis }) =>
    ofThis ? (memberships.heldOn(name)?.size ?? 0) > 0 : memberships.of(name) === True,
  );
}

/** The roles of the assigner that somebody may take away after a change, and might not before. */
function takenRoles(portier: Portier, { source, assigner }: ChangeContext, { before, after }: Affected): Role[] {
  const { person, now, claims } = assigner;
  const { people } = portier.schema;
  const held = membershipsOf(internals(portier), source, person, { now, ...(claims === undefined ? {} : { claims }) });
  const row = people && source.find(people.table.name, person);
  const given = held?.given.roles ?? [];
  const isTaken = ({ role, source: from }: AssignedRole) => {
    if (from === "assignments") return mayAssignAny(after, role) && !mayAssignAny(before, role);
    // What a field gives is taken away by whoever may change the field.
    const field = people?.table.byName.get(from);
    if (people === undefined || row === undefined || field === undefined) return false;
    const mayEdit = (who: Session) => who.may("edit", people.table.name, row, field.name);
    return mayEdit(after) && !mayEdit(before);
  };
  return [...new Set(given.filter(isTaken).map(({ role }) => role))];
}

/** Where more of a sensitive field may be seen, changed or taken out than before. */
function sensitiveGains({ person, before, after }: Affected): ChangeWarning[] {
  const { schema } = internals(after).ruleset;
  const words = { view: "see", edit: "edit", export: "export" } as const;
  return [...schema.tables.values()].flatMap((table) => {
    // Fields about which the same is to be said share a sentence.
    const said = new Map<string, string[]>();
    for (const { name, sensitive } of table.fields) {
      const actions = sensitive
        ? (["view", "edit", "export"] as const).filter((action) => isWider(before, after, table.name, action, name))
        : [];
      const action = actions.map((one) => words[one]).join(", ");
      if (action !== "") said.set(action, [...(said.get(action) ?? []), name]);
    }
    return [...said].map(([action, fields]) =>
      warning("gains-sensitive", { person, action, table: table.name, fields }, [
        `${action} ${table.name}.${fields.join(",")}`,
      ]),
    );
  });
}

/** Whether a field may be open on more records than before, as far as the rules show without looking at any. */
function isWider(
  before: Session,
  after: Session,
  table: string,
  action: "view" | "edit" | "export",
  field: string,
): boolean {
  const seen = action === "view" ? knownBy : [action];
  return seen.some((one) => {
    if (after.reach(one, table, field) === "none" || before.reach(one, table, field) === "all") return false;
    return residualText(before, table, one, field) !== residualText(after, table, one, field);
  });
}
