import type { Source } from "../conditions/source.js";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { portierError } from "../schema/problems.js";
import { isStorable } from "../schema/scalar.js";
import { canonicalTimestamp, timestamp, timestampOf } from "../schema/types/timestamp.js";
import { type Identity, identityOf } from "../session/identity.js";
import { type StoredWrite, withWrites } from "../session/overlay.js";
import type { Portier } from "../session/portier.js";
import type { Assigner } from "../session/roles/assigner.js";
import type { Session } from "../session/session.js";
import { type AccessDifference, diffSessions } from "../verify/gains.js";
import { type AssignableRole, assignableRoles } from "./assignable-roles.js";
import { assignmentProblem } from "./assignment-problem.js";
import { entryOf } from "./audit-entry.js";
import { affectedBy } from "./change-warnings.js";
import { type ChangeJudgement, judgeBootstrap, judgeChange } from "./judge-change.js";
import { judgeProtection, listedProtections, type ProtectionEntry } from "./judge-protection.js";
import { keptOf } from "./kept-state.js";
import { type ProtectionPreview, previewOfProtection } from "./preview-protection.js";
import type { ProtectionChange } from "./protections.js";
import { affectedPerson, type RoleChange } from "./role-change.js";
import { type RoleOutcome, shown } from "./role-outcome.js";
import type { RoleStore } from "./role-store.js";

/** The one in whose name roles are assigned; a visitor assigns none. */
export type AdministratorIdentity = Identity & { readonly person: string | number };

/** How a change of roles is made. */
export interface ChangeRoleOptions {
  /** The ids of the warnings that were read and confirmed. */
  readonly confirmed?: readonly string[];
}

/** A change before it is made: what comes of it, and what somebody gains and loses by it. */
export interface RolePreview {
  /** Whether it would be done, or why not; what must be confirmed first. */
  readonly outcome: RoleOutcome;
  /** The key of the one who gains or loses. */
  readonly person: string;
  /** What the person could do then and cannot now. */
  readonly gains: AccessDifference["gains"];
  /** What the person can do now and could not then. */
  readonly losses: AccessDifference["losses"];
}

type ProtectionOf<C extends ProtectionChange["kind"]> = Omit<Extract<ProtectionChange, { kind: C }>, "kind">;

type Without<C extends RoleChange["kind"]> = Omit<Extract<RoleChange, { kind: C }>, "kind">;

/**
 * One person who assigns and revokes roles. What they may do is what the roles' `assignableBy` says; everything is judged on the
 * state that the store holds at that time, and written together with a record of it.
 */
export class Administrator {
  readonly #portier: Portier;
  readonly #store: RoleStore;
  readonly #identity: AdministratorIdentity;

  /** Made by {@link administration}, not by applications. */
  constructor(portier: Portier, store: RoleStore, identity: AdministratorIdentity) {
    this.#portier = portier;
    this.#store = store;
    this.#identity = identity;
  }

  /** Gives a role to a person, for a time where `from` or `until` say so. */
  assign(change: Without<"assign">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "assign", ...change }, options);
  }

  /** Takes a role away that was assigned. */
  revoke(change: Without<"revoke">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "revoke", ...change }, options);
  }

  /**
   * Takes an assigned role away and gives another one in the same act: judged, previewed and recorded together.
   *
   * @example
   * await director.replace({ person: "s-007", insteadOf: "editor", role: "lead", on: "e-2" });
   */
  replace(change: Without<"replace">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "replace", ...change }, options);
  }

  /**
   * The roles that this person may give, from least to most: each before those that include it, else by how much of the
   * rules they open. The first is the one to offer for a newcomer. `on`: the record, for the roles that are held on it; without
   * it, those that are held on none.
   */
  assignable(on?: { readonly table: string; readonly key: string }): Promise<readonly AssignableRole[]> {
    const assigner = this.#assigner([]);
    return this.#store.read((source) => assignableRoles(this.#portier, source, assigner, on));
  }

  /** Sets when an assigned role ends; null for never. */
  setExpiry(change: Without<"set-expiry">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "set-expiry", ...change }, options);
  }

  /** Lets somebody act for this person, or for another whose roles are all this person's to give. */
  delegate(change: Without<"delegate">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "delegate", ...change }, options);
  }

  /** Ends what lets somebody act for another: by either of them, or by who could have let them. */
  endDelegation(change: Without<"end-delegation">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "end-delegation", ...change }, options);
  }

  /**
   * Makes, changes or deletes a record of a link table of the document, from which roles come: judged by the rules of its
   * table, and as the assignment or revocation that it is. In a store that keeps the application's tables.
   */
  changeLink(change: Without<"change-link">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "change-link", ...change }, options);
  }

  /**
   * Sets how far a person may go with one field: `none` hides it and keeps it as it is, `view` keeps it as it is, `edit` takes
   * nothing away; null takes back what was set. Judged by the rules of the table that holds settings, and by who may set
   * them. In a store that keeps the application's tables.
   *
   * @example
   * await director.set({ person: "s-007", table: "objects", field: "insured_value", level: "none" });
   */
  set(change: Without<"set">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.make({ kind: "set", ...change }, options);
  }

  /**
   * Protects cells of a grid: nobody but those in `to` edits them any more, or everybody else is asked first. Who may protect
   * which cells, a rule says (`permit: { protect: ... }`). Without `to` it is this person alone.
   *
   * @example
   * await treasurer.protect({ table: "plan", ranges: ["B2:E40", "G:"], except: "C7", to: ["treasurer", "person s-002"] });
   */
  protect(change: ProtectionOf<"protect">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.makeProtection({ kind: "protect", ...change }, options);
  }

  /**
   * Changes a protection: its cells, for whom, its note or its time. What lets somebody in must be confirmed. It is for the one
   * who made it, and those whom it names.
   */
  changeProtection(change: ProtectionOf<"change-protection">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.makeProtection({ kind: "change-protection", ...change }, options);
  }

  /** Takes a protection away, once that is confirmed. */
  unprotect(change: ProtectionOf<"unprotect">, options?: ChangeRoleOptions): Promise<RoleOutcome> {
    return this.makeProtection({ kind: "unprotect", ...change }, options);
  }

  /** What a change of protections would come to, without making it, and who may do less or more by it. */
  previewProtection(change: ProtectionChange): Promise<ProtectionPreview> {
    const assigner = this.#assigner([]);
    return this.#store.read((source) => previewOfProtection(this.#portier, source, change, assigner));
  }

  /**
   * What is protected in a table, the oldest first, and whether it is this person's to change; nothing for whoever sees none of
   * its records.
   */
  protections(table: string): Promise<readonly ProtectionEntry[]> {
    const assigner = this.#assigner([]);
    return this.#store.read((source) => listedProtections(this.#portier, source, assigner, table));
  }

  /** Any change of protections, as data. */
  makeProtection(change: ProtectionChange, { confirmed = [] }: ChangeRoleOptions = {}): Promise<RoleOutcome> {
    const assigner = this.#assigner(confirmed);
    // Short enough to be read, and typed: 48 random bits.
    const id = newId().replaceAll("-", "").slice(0, 12);
    const judge = (source: Source) => judgeProtection(this.#portier, source, change, assigner, () => id);
    return this.#recorded(change, assigner, judge, () => null);
  }

  /** Any of these changes, as data. */
  make(change: RoleChange, { confirmed = [] }: ChangeRoleOptions = {}): Promise<RoleOutcome> {
    const assigner = this.#assigner(confirmed);
    const id = newId();
    const judge = (source: Source): ChangeJudgement => {
      const judged = judgeChange(this.#portier, source, change, assigner, () => id);
      if (!judged.accepted || !isOfOwnTables(change) || this.#store.keepsPersons) return judged;
      return { accepted: false, reason: "refused", problems: [assignmentProblem("store-keeps-no-people", {})] };
    };
    return this.#recorded(change, assigner, judge, (writes) => affectedPerson(change, this.#portier.schema, writes));
  }

  /** Judges a change, and writes what is accepted together with the record of it. */
  #recorded(
    { kind, reason }: Pick<RoleChange | ProtectionChange, "kind" | "reason">,
    assigner: Assigner,
    judge: (source: Source) => ChangeJudgement,
    about: (writes: readonly StoredWrite[]) => string | null,
  ): Promise<RoleOutcome> {
    return this.#store.change(async (inside) => {
      const judged = await inside.read(judge);
      if (judged.accepted) {
        const { writes, warnings } = judged;
        const details = warnings.map((one) => one.id);
        const by = { by: assigner.person, actedBy: assigner.actedBy, person: about(writes) };
        await inside.write(writes, [entryOf({ kind, at: realTime(), ...by, reason, details }, writes)]);
      }
      return shown(judged);
    });
  }

  /**
   * What a change would come to, without making it: whether it is accepted, what must be confirmed, and what the person
   * gains and loses per table, action and field, counted on the records of the store's source.
   */
  preview(change: RoleChange): Promise<RolePreview> {
    const assigner = this.#assigner([]);
    return this.#store.read((source) => previewOf(this.#portier, source, change, assigner));
  }

  #assigner(confirmed: readonly string[]): Assigner {
    const { person, actedBy, claims, request } = this.#identity;
    const key = actedBy === undefined ? undefined : String(actedBy);
    return { person: String(person), actedBy: key, claims, request, now: instantOfCall(request), confirmed };
  }
}

/** Whether it is written into tables of the application. */
function isOfOwnTables({ kind }: RoleChange): boolean {
  return kind === "change-person" || kind === "change-link" || kind === "set";
}

/** A change as it would come out, on a source that holds the state before it. */
function previewOf(portier: Portier, source: Source, change: RoleChange, assigner: Assigner): RolePreview {
  const judged = judgeChange(portier, source, change, assigner, () => "new");
  const person = affectedPerson(change, portier.schema, "writes" in judged ? judged.writes : []);
  const outcome = shown(judged);
  if (!judged.accepted && judged.reason === "refused") return { outcome, person, gains: [], losses: [] };
  const { writes } = judged;
  const after = withWrites(source, portier.schema, writes);
  const affected = affectedBy(portier, { source, after, change, writes, assigner });
  const records = (table: string) => source.all?.(table) ?? [];
  // Whoever acts for another keeps what is theirs: only what acting adds comes or goes.
  if (change.kind === "delegate" || change.kind === "end-delegation") {
    const [own, acting] =
      change.kind === "end-delegation" ? [affected.after, affected.before] : [affected.before, affected.after];
    const { gains: added } = diffSessions(own, acting, records);
    const [gains, losses] = change.kind === "end-delegation" ? [[], added] : [added, []];
    return { outcome, person, gains, losses };
  }
  return { outcome, person, ...diffSessions(affected.before, affected.after, records) };
}

/** An answer that is to be kept, as it was given. */
export interface DecisionFacts {
  readonly action: string;
  readonly table: string;
  /** The key of the record; none for a question about a new one. */
  readonly key?: string;
  readonly field?: string;
  /** What was answered. */
  readonly permitted: boolean;
  /** The rule that decided, where one did. */
  readonly rule?: string | undefined;
  readonly reason?: string;
}

/** Changes of roles, settings and protections. */
export interface Administration {
  /**
   * The person who assigns and revokes: their key, or more of who they are.
   *
   * @throws PortierError (`wrong-call`) for a visitor.
   */
  as(who: string | number | AdministratorIdentity): Administrator;
  /**
   * Gives a role in nobody's name, for the first one who has it: refused as soon as there is anybody who may assign it.
   */
  bootstrap(change: Without<"assign">): Promise<RoleOutcome>;
  /** Keeps an answer of a session in the record: who asked what, and what was answered. */
  logDecision(session: Pick<Session, "person" | "actedBy">, decision: DecisionFacts): Promise<void>;
}

/**
 * Assigns and revokes roles, in the name of one person or another.
 *
 * @throws PortierError (`wrong-call`) for a document that does not say `people: { assignments: true }`.
 *
 * @example
 * const people = administration(portier, databaseStore(portier, pgConnection(pool)));
 * const outcome = await people.as("s-001").assign({ person: "s-007", role: "keeper", until: "2027-06-30" });
 * // { accepted: false, reason: "unconfirmed", warnings: [{ id: "gains-sensitive view objects.shelf", ... }] }
 */
export function administration<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  store: RoleStore,
): Administration {
  keptOf(portier);
  const own = portier as unknown as Portier;
  return {
    as: (who) => {
      const identity = identityOf(who);
      if (isPerson(identity)) return new Administrator(own, store, identity);
      throw portierError("wrong-call", { what: "a visitor cannot assign roles", hint: "pass the key of a person" });
    },
    logDecision: ({ person, actedBy }, { action, table, key, field, permitted, rule, reason }) => {
      if (!isStorable([action, table, key, field, reason])) {
        throw portierError("wrong-call", {
          what: "this decision holds a text that cannot be stored",
          hint: "leave it out",
        });
      }
      const asked = [action, table, key, field].filter((part) => part !== undefined).join(" ");
      const answered = `${permitted ? "permitted" : "denied"}${rule === undefined ? "" : ` by ${rule}`}`;
      const by = person ?? null;
      const facts = { kind: "decision", at: realTime(), by, actedBy, person: by, reason } as const;
      return store.change((inside) => inside.write([], [entryOf({ ...facts, details: [asked, answered] }, [])]));
    },
    bootstrap: (change) => {
      const id = newId();
      const now = instantOfCall(undefined);
      return store.change(async (inside) => {
        const made = { kind: "assign", ...change } as const;
        const judged = await inside.read((source) => judgeBootstrap(own, source, made, now, () => id));
        if (!judged.accepted) return shown(judged);
        const facts = {
          kind: "bootstrap",
          at: realTime(),
          by: null,
          person: change.person,
          reason: change.reason,
        } as const;
        await inside.write(judged.writes, [entryOf(facts, judged.writes)]);
        return { accepted: true, warnings: [] };
      });
    },
  };
}

function isPerson(identity: Identity): identity is AdministratorIdentity {
  return (identity.person ?? "") !== "";
}

/** The record says when something was done, whatever instant it was judged for. */
function realTime(): string {
  return timestampOf(new Date()) as string;
}

function instantOfCall(request: Readonly<Record<string, unknown>> | undefined): string {
  const given = request?.["now"];
  if (given === undefined) return realTime();
  const now = canonicalTimestamp(given);
  if (now !== undefined) return now;
  throw portierError("bad-value", { field: "request.now", expects: timestamp.expects, found: given });
}

/** Random, so that two processes never make the same one. Web Crypto is there in Node and in browsers. */
function newId(): string {
  const { crypto } = globalThis as unknown as { readonly crypto: { randomUUID(): string } };
  return crypto.randomUUID();
}
