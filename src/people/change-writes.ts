import type { Row } from "../conditions/source.js";
import { instantOf } from "../schema/instant.js";
import type { Role } from "../schema/schema.js";
import type { StoredWrite } from "../session/overlay.js";
import {
  type Assignment,
  assignmentOf,
  type Delegation,
  delegationOf,
  instantIn,
} from "../session/roles/assignment.js";
import { type AssignmentContext, assignerNames } from "../session/roles/assignment-context.js";
import { holdingOf, mayAssign, turningPoints } from "../session/roles/holdings.js";
import { refuse } from "../session/roles/refusal.js";
import { mustKnow, personKey } from "./known-to-assigner.js";
import { RecordWrites } from "./record-writes.js";
import type { RoleChange } from "./role-change.js";

type ChangeOf<K extends RoleChange["kind"]> = Extract<RoleChange, { kind: K }>;

/** What a change writes, once it is seen that the assigner may make it and that what it names is there. */
export class ChangeWrites {
  readonly #context: AssignmentContext;

  constructor(context: AssignmentContext) {
    this.#context = context;
  }

  of(change: RoleChange): StoredWrite[] {
    const { kept, assigner } = this.#context;
    // Whoever acts for another does not come by more for themselves.
    const isOwn = assigner.actedBy !== undefined && "person" in change && change.person === assigner.actedBy;
    if (isOwn && change.kind !== "revoke") refuse("not-while-acting", { what: "assign anything to yourself" });
    switch (change.kind) {
      case "assign":
        return [this.#assign(change)];
      case "revoke":
        return this.#assigned(change).map((row) => ({ table: kept.assignments, before: row, after: undefined }));
      case "replace":
        return this.#replace(change);
      case "set-expiry":
        return this.#setExpiry(change);
      case "delegate":
        return [this.#delegate(change)];
      case "end-delegation":
        return this.#end(change);
      case "change-person":
        return [new RecordWrites(this.#context).person(change)];
      case "change-link":
        return [new RecordWrites(this.#context).link(change)];
      case "set":
        return new RecordWrites(this.#context).setting(change);
      default:
        return change satisfies never;
    }
  }

  /** A gift in nobody's name, while there is nobody who may assign the role. */
  bootstrap(change: ChangeOf<"assign">): StoredWrite[] {
    const { role } = this.#roleOf(change);
    const assigner = role.assignableBy[0];
    if (assigner === undefined) refuse("may-not-assign", { role: role.name, assigners: [], with: undefined });
    const { now } = this.#context.assigner;
    const everybody = this.#context.source.all?.(this.#context.people.table.name) ?? [];
    for (const row of everybody) {
      const key = String(row[this.#context.people.key.name]);
      if (mayAssign(this.#context.memberships(this.#context.source, key, now), role, change.on ?? null)) {
        refuse("bootstrap-not-needed", { role: role.name, assigners: assignerNames(role) });
      }
    }
    return [this.#assignment(change, null)];
  }

  #assign(change: ChangeOf<"assign">): StoredWrite {
    const { role, on } = this.#roleOf(change);
    this.#context.mustAssign(role, on);
    return this.#assignment(change, this.#context.assigner.person);
  }

  #assignment(change: ChangeOf<"assign">, assignedBy: string | null): StoredWrite {
    const { role, on } = this.#roleOf(change);
    const key = this.#activePerson(change.person);
    const { from, until } = this.#period(change, `the role "${role.name}"`);
    const isSame = (row: Row) => row["role"] === role.name && (row["on"] ?? null) === on && !this.#isOver(row);
    const others = [...this.#assignmentsOf(change.person)].filter(isSame);
    if (others.some((row) => this.#overlaps(row, from, until))) {
      refuse("already-assigned", { person: change.person, role: holdingOf(role.name, on) });
    }
    const given: Assignment = {
      id: this.#context.newId(),
      person: key,
      role: role.name,
      on,
      from,
      until,
      assignedBy,
      reason: change.reason ?? null,
    };
    return { table: this.#context.kept.assignments, before: undefined, after: { ...given } };
  }

  /** The assignments of a role that are not over, for a change of which the assigner has the right. */
  #assigned(change: ChangeOf<"revoke" | "set-expiry">): Row[] {
    const { person } = change;
    personKey(this.#context, person);
    const mine = [...this.#assignmentsOf(person)].filter((row) => !this.#isOver(row));
    const declared = this.#context.schema.roles.get(change.role);
    // A role that the document does not have any more can still be taken away, by whoever may assign any role.
    const { role, on } = declared === undefined ? this.#lostRole(change, mine) : this.#roleOf(change);
    if (role !== undefined) this.#context.mustAssign(role, on);
    const rows = mine.filter((row) => row["role"] === change.role && (row["on"] ?? null) === on);
    if (rows.length > 0) return rows;
    const { now } = this.#context.assigner;
    const given = this.#context.memberships(this.#context.source, person, now)?.given.roles ?? [];
    const bringing = given.filter((one) => one.role.closure.has(change.role));
    const from = bringing.map(({ role: one, source }) =>
      one.name === change.role ? `"${source}"` : `the role "${one.name}" in "${source}"`,
    );
    return refuse("not-assigned", { person, role: holdingOf(change.role, on), from });
  }

  #replace(change: ChangeOf<"replace">): StoredWrite[] {
    const { person, role, insteadOf, on, reason } = change;
    if (role === insteadOf) refuse("same-role", { role });
    const taken = this.#assigned({ kind: "revoke", person, role: insteadOf, on });
    const revoked = taken.map((row) => ({ table: this.#context.kept.assignments, before: row, after: undefined }));
    // The latest end of what is taken away, if each has one.
    const ends = taken.map((row) => instantIn(row, "until"));
    const latest = ends.every((end) => end !== null && end !== undefined) ? ends.sort().at(-1) : undefined;
    const until = change.until === null ? undefined : (change.until ?? latest ?? undefined);
    return [...revoked, this.#assign({ kind: "assign", person, role, on, until, reason })];
  }

  #lostRole(change: ChangeOf<"revoke" | "set-expiry">, rows: readonly Row[]) {
    const { roles } = this.#context.schema;
    if (!rows.some((row) => row["role"] === change.role)) {
      refuse("unknown-role", { name: change.role, candidates: roles.keys() });
    }
    const assignsAny = [...roles.values()].some((role) => mayAssign(this.#context.held(), role, null));
    if (!assignsAny) refuse("may-not-assign", { role: change.role, assigners: [], with: undefined });
    return { role: undefined, on: change.on ?? null };
  }

  #setExpiry(change: ChangeOf<"set-expiry">): StoredWrite[] {
    const until = instantOf(this.#context.schema, "until", change.until);
    if (until !== null && until <= this.#context.assigner.now)
      refuse("period-is-over", { what: `the role "${change.role}"` });
    return this.#assigned(change).map((row) => ({
      table: this.#context.kept.assignments,
      before: row,
      after: { ...row, until },
    }));
  }

  #delegate(change: ChangeOf<"delegate">): StoredWrite {
    const { person, actedBy } = this.#context.assigner;
    if (actedBy !== undefined) refuse("not-while-acting", { what: "delegate" });
    const of = change.of ?? person;
    const [ofKey, toKey] = [this.#activePerson(of), this.#activePerson(change.to)];
    if (of === change.to) refuse("period-is-over", { what: "a delegation to oneself" });
    const without = change.without ?? [];
    for (const name of without) {
      if (!this.#context.schema.roles.has(name))
        refuse("unknown-role", { name, candidates: this.#context.schema.roles.keys() });
    }
    if (of !== person) this.#mustGiveAllOf(of, without);
    const { from, until } = this.#period(change, "the delegation");
    const made: Delegation = {
      id: this.#context.newId(),
      of: ofKey,
      to: toKey,
      from,
      until,
      without,
      assignedBy: person,
      reason: change.reason ?? null,
    };
    return { table: this.#context.kept.delegations, before: undefined, after: { ...made } };
  }

  /** Somebody else lets a person be acted for only who could give all that they hold: or they would widen their rights. */
  #mustGiveAllOf(of: string, without: readonly string[]): void {
    const { now } = this.#context.assigner;
    for (const instant of turningPoints(this.#context.schema, this.#context.source, of, now)) {
      for (const { role, on } of this.#context.rolesAt(this.#context.source, of, instant)) {
        if ([...role.closure].some((held) => without.includes(held))) continue;
        if (!mayAssign(this.#context.held(), role, on)) refuse("may-not-delegate", { of });
      }
    }
  }

  #end(change: ChangeOf<"end-delegation">): StoredWrite[] {
    const { person, actedBy, now } = this.#context.assigner;
    const of = change.of ?? person;
    const rows = [...(this.#context.source.referring?.(this.#context.kept.delegations.name, "of", of) ?? [])]
      .filter((row) => String(delegationOf(row).to) === change.to && String(delegationOf(row).of) === of)
      .filter((row) => !this.#isOver(row));
    const isParty = [of, change.to].includes(person) || actedBy === change.to;
    if (!isParty) this.#mustGiveAllOf(of, []);
    if (rows.length === 0) refuse("no-delegation", { of, to: change.to });
    return rows.map((row) => {
      const from = instantIn(row, "from");
      const hasBegun = from === null || from <= now;
      return {
        table: this.#context.kept.delegations,
        before: row,
        after: hasBegun ? { ...row, until: now } : undefined,
      };
    });
  }

  // What is named in a change

  #roleOf({ role: name, on }: { readonly role: string; readonly on?: string | undefined }): {
    role: Role;
    on: string | null;
  } {
    const { roles } = this.#context.schema;
    const role = roles.get(name) ?? refuse("unknown-role", { name, candidates: roles.keys() });
    if (role.scope === undefined) {
      if (on !== undefined) refuse("no-record-needed", { role: name });
      return { role, on: null };
    }
    if (on === undefined) return refuse("record-needed", { role: name, scope: role.scope });
    mustKnow(this.#context, role.scope, on);
    return { role, on };
  }

  /** Whoever is not there to hold anything is given nothing: what they then hold would be looked at by nobody. */
  #activePerson(person: string): string | number {
    const key = personKey(this.#context, person);
    const { now } = this.#context.assigner;
    if (this.#context.memberships(this.#context.source, person, now) === undefined) refuse("not-active", { person });
    return key;
  }

  #period(
    { from: begins, until: ends }: { readonly from?: string | undefined; readonly until?: string | undefined },
    what: string,
  ): { from: string | null; until: string | null } {
    const [from, until] = [
      instantOf(this.#context.schema, "from", begins),
      instantOf(this.#context.schema, "until", ends),
    ];
    const begun = from === null || from < this.#context.assigner.now ? this.#context.assigner.now : from;
    if (until !== null && until <= begun) refuse("period-is-over", { what });
    return { from, until };
  }

  #assignmentsOf(person: string): Iterable<Row> {
    const rows = [...(this.#context.source.referring?.(this.#context.kept.assignments.name, "person", person) ?? [])];
    return rows.filter((row) => String(assignmentOf(row).person) === person);
  }

  #isOver(row: Row): boolean {
    const until = instantIn(row, "until");
    return until !== null && until <= this.#context.assigner.now;
  }

  #overlaps(row: Row, from: string | null, until: string | null): boolean {
    const [begins, ends] = [instantIn(row, "from"), instantIn(row, "until")];
    const endsBefore = ends !== null && from !== null && ends <= from;
    const beginsAfter = begins !== null && until !== null && until <= begins;
    return !endsBefore && !beginsAfter;
  }
}
