import { True, truthNames } from "../conditions/truth.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Table } from "../schema/schema.js";
import type { Memberships } from "../session/memberships.js";
import type { OpenedSubject } from "../session/open-subject.js";
import { roleSubject } from "../session/role-subject.js";
import { settingPrefix } from "../session/setting-rules.js";
import { readsOf } from "./reads.js";
import type { TracedTruth } from "./trace.js";

/** Whether an entry stands for what is set of the person alone: it can be taken back, and is nothing to become. */
export function isSetting(entry: string): boolean {
  return entry.startsWith(settingPrefix);
}

/** What being something, or being it no more, brings and takes: roles, groups, and ways of standing to a record. */
export class HeldNames {
  readonly #ruleset: Ruleset;
  readonly #subject: OpenedSubject;
  readonly #given = new Map<string, ReadonlySet<string>>();
  readonly #supposed = new Map<string, Memberships>();
  readonly #related: ReadonlyMap<string, ReadonlySet<string>>;

  /** `table`: the one that is asked about, on which something can be set of the person. */
  constructor(ruleset: Ruleset, subject: OpenedSubject, table: Table) {
    this.#ruleset = ruleset;
    this.#subject = subject;
    const related = [...ruleset.rules, ...subject.settings(table)].flatMap(({ to, except }) =>
      [...to, ...except].flatMap((who) => (who.kind === "related" ? [[who.text, readsOf(who.met)] as const] : [])),
    );
    this.#related = new Map(related);
  }

  /** Whether an entry is about how a person stands to a record: `owner`, `above owner`, `editor of exhibition`. */
  isRelated(entry: string): boolean {
    return this.#related.has(entry);
  }

  readsOf(entry: string): ReadonlySet<string> {
    return this.#related.get(entry) ?? new Set();
  }

  /** Whether one can be told to become it: nobody becomes another person. */
  canBecome(entry: string): boolean {
    return entry !== "anyone" && !entry.startsWith("person ") && !isSetting(entry);
  }

  /** Whether who becomes all of these is the other, too. */
  gives(names: readonly string[], entry: string): boolean {
    if (names.length === 0) return false;
    return entry === "signed-in" || this.#broughtBy(names).has(entry);
  }

  /** Whether the person would hold a role, or be in a group, after becoming some and being others no more. */
  after(plus: readonly string[], minus: readonly string[], name: string): TracedTruth | undefined {
    if (!this.#isName(name)) return undefined;
    const { memberships } = this.#subject;
    if (memberships === undefined) {
      if (this.#broughtBy(plus).has(name)) return "true";
      // A visitor who signs in can be in any group: that is for what is known of them to say.
      const { groups, carriers } = this.#ruleset;
      return groups.has(name) || (carriers.get(name) ?? []).length > 0 ? "unknown" : "false";
    }
    const id = JSON.stringify([plus, minus]);
    const supposed = this.#supposed.get(id) ?? memberships.supposing(plus, minus);
    this.#supposed.set(id, supposed);
    return truthNames[supposed.of(name)];
  }

  /** Whether roles that these bring exclude each other, or one that is held. */
  clash(names: readonly string[]): boolean {
    const { roles } = this.#ruleset.schema;
    const roleIn = (text: string) => text.split(" of ")[0] as string;
    const brought = [...this.#broughtBy(names), ...names.map(roleIn)];
    const all = [...brought, ...this.#subject.roles().map(roleIn)];
    return brought.some((name) => all.some((other) => roles.get(name)?.exclusive.has(other) === true));
  }

  /** Whether the current user is anonymous: once signed in, they can be anybody. */
  get isVisitor(): boolean {
    return this.#subject.key === null;
  }

  /** What a change of it could alter besides. */
  touchedBy(entry: string): ReadonlySet<string> {
    const related = this.#related.get(entry);
    if (related !== undefined) return new Set([...related, "held", "may"]);
    const { people } = this.#ruleset.schema;
    const fields = (people?.roles ?? []).map((source) =>
      source.kind === "field" ? `me ${source.field.name}` : `table ${source.table.name}`,
    );
    // Groups may ask anything of the person: who is in one by a condition is so by what their own record holds.
    const isGroup = this.#ruleset.groups.has(entry);
    const own = isGroup || this.isVisitor ? (people?.table.fields ?? []).map(({ name }) => `me ${name}`) : fields;
    return new Set([...own, "may", ...(people === undefined ? [] : [`table ${people.table.name}`])]);
  }

  /** Whether it is a role that is held globally, or a group. */
  #isName(name: string): boolean {
    return this.#ruleset.groups.has(name) || this.#ruleset.schema.roles.has(name) || this.#ruleset.lines.has(name);
  }

  #broughtBy(names: readonly string[]): ReadonlySet<string> {
    const id = JSON.stringify(names);
    const known = this.#given.get(id);
    if (known !== undefined) return known;
    const { groups, lines } = this.#ruleset;
    const { roles } = this.#ruleset.schema;
    const own = names.filter((name) => roles.has(name) || groups.has(name));
    const holder = roleSubject(this.#ruleset, own, { now: this.#subject.now });
    const found = [...roles.keys(), ...groups.keys(), ...lines.keys()].filter((name) => {
      const membership = holder.membership(name);
      return membership.kind === "truth" && membership.value === True;
    });
    const made = new Set([...names, ...found]);
    this.#given.set(id, made);
    return made;
  }
}
