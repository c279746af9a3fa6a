import type { Expression } from "../../conditions/expression.js";
import { Bad, False, True } from "../../conditions/truth.js";
import { membership } from "../../rules/membership.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { exclusionsOf, isRunningLink, type Link, storedMembers } from "../../rules/stored-members.js";
import { portierError } from "../../schema/problems.js";
import { type Field, type People, singleKey, type Table } from "../../schema/schema.js";
import { truthNumber } from "../condition.js";
import { allOf, anyOf, type Fragment, join, raw, sql } from "../fragment.js";
import type { Place } from "../place.js";
import { postgres } from "../postgres.js";
import { column, type Scope, tableAs } from "../scope.js";
import { literal, written } from "./ddl.js";

/** The name that their own record has in the view of the current user. */
export const personAlias = "p";

export function keyOf(people: People): Field {
  return singleKey(people.table) as Field;
}

/** Where in the view of the current user a link table's records about them are: `role`, `record`, and `n`, whether it counts. */
interface HeldTable {
  readonly source: Link;
  readonly name: string;
}

/** The roles and groups of the current user, as parts of the view of them. */
export class HeldRoles {
  readonly #ruleset: Ruleset;
  /** A condition's scope inside the view. */
  readonly #within: (place: Place) => Scope;
  readonly #held: readonly HeldTable[];

  constructor(ruleset: Ruleset, within: (place: Place) => Scope) {
    this.#ruleset = ruleset;
    this.#within = within;
    const links = (ruleset.schema.people?.roles ?? []).filter((one): one is Link => one.kind === "link");
    this.#held = links.map((source, index) => ({ source, name: postgres.quoteName(`held ${index + 1}`) }));
  }

  /** The records of each link table that are about this person and not over, read once for all that is asked of them. */
  tables(): string[] {
    return this.#held.map(({ source, name }) => {
      const link: Place = { table: source.table, alias: "l" };
      const scope = this.#within(link);
      const { on, isMixed } = source;
      const own = `(select ${postgres.quoteName(keyOf(this.#people()).column)} from ${personAlias})`;
      const number = this.#running(source, scope) ?? raw(String(True));
      const columns = [
        sql`cast(${column(scope, link, source.role)} as text) as role`,
        sql`${on === undefined ? raw("null") : column(scope, link, on)} as record`,
        sql`${number} as n`,
      ];
      const isTheirs = sql`${column(scope, link, source.person)} = ${raw(own)}`;
      const isGiven = on === undefined || isMixed ? [] : [sql`${column(scope, link, on)} is not null`];
      const rows = sql`select ${join(columns, ", ")} from a, ${tableAs(scope, link)} where ${allOf([isTheirs, ...isGiven])}`;
      const text = sql`${raw(name)} as materialized (select * from (${rows}) l where n <> ${raw(String(False))})`;
      return written(text);
    });
  }

  /** Whether somebody has a role that is none, or is held in another way: that is a fault, and never silently nothing. */
  namesWrongRole(): Fragment {
    const all = [...this.#ruleset.schema.roles.values()];
    const namesOf = (roles: readonly { readonly name: string }[]) =>
      raw(`array[${roles.map(({ name }) => literal(name)).join(", ")}]::text[]`);
    const ofFields = this.#fields().map((field) => {
      const known = namesOf(all.filter(({ scope }) => scope === undefined));
      const held = this.#own(field);
      if (field.type.element === undefined) return sql`not cast(${held} as text) = any (${known})`;
      return sql`exists (select 1 from unnest(${held}) as r(name) where (cast(r.name as text) = any (${known})) is not true)`;
    });
    const ofLinks = this.#held.map(({ source: { on, isMixed }, name }) => {
      const known = isMixed
        ? sql`case when record is null then ${namesOf([...all.filter(({ scope }) => scope === undefined), ...this.#ruleset.groups.values()])} else ${namesOf(all.filter(({ scope }) => scope !== undefined))} end`
        : namesOf(all.filter(({ scope }) => scope === on?.type.target));
      return sql`exists (select 1 from ${raw(name)} where not role = any (${known}))`;
    });
    return anyOf([...ofFields, ...ofLinks]);
  }

  /**
   * What conditions on a person's own record leave open: `NAME` a role as it is given and counts, `stored NAME` as it is
   * given whatever excludes it, `sound NAME` whether what the role brings counts, `named NAME` a group as it is assigned.
   */
  numberOf(name: string): Fragment {
    const [how, role] = name.includes(" ") ? (name.split(" ") as [string, string]) : ["given", name];
    if (how === "sound") return this.#soundness(role);
    if (how === "named") return this.#given([role], "assigned");
    const isStored = how === "stored";
    const bringing = this.#bringing(role);
    const uncertain = isStored ? [] : bringing.filter((one) => this.#isUncertain(one));
    const sure = this.#given(bringing.filter((one) => !uncertain.includes(one)));
    if (uncertain.length === 0) return sure;
    const numbers = uncertain.map((one) => sql`least(${this.#given([one])}, ${this.#soundness(one)})`);
    return sql`greatest(${join([sure, ...numbers], ", ")})`;
  }

  /** Whether a person holds a role or is in a group, as a condition on their own record. */
  member(name: string, how: "given" | "stored" = "given"): Expression {
    const { schema, groups, carriers } = this.#ruleset;
    const open = (one: string): Expression => ({ kind: "open", name: one });
    const source = {
      schema,
      group: (one: string) => groups.get(one),
      carriers: (role: string) => carriers.get(role) ?? [],
      members: storedMembers(this.#ruleset),
    };
    return membership(name, source, {
      member: (one) => this.member(one, how),
      given: (role) => open(how === "given" ? role : `stored ${role}`),
      sound: (role) => (how === "given" && this.#isUncertain(role) ? open(`sound ${role}`) : undefined),
      assigned: (group) => (schema.kept === undefined ? undefined : open(`named ${group}`)),
    });
  }

  /** The keys of the records on which the current user holds a role, or one that includes it; null where that is not known. */
  keysOf(role: string, scoped: Table): Fragment {
    const [key] = scoped.key as [Field];
    if (scoped.key.length > 1) {
      const what = `row security cannot hold the role "${role}": "${scoped.name}" has a key of several fields`;
      throw portierError("wrong-call", { what, hint: "give the table a key of one field" });
    }
    const names = namesIn(this.#bringing(role));
    const selects = this.#scoped(scoped.name).map(
      ({ source, name }) =>
        sql`select ${source.isMixed ? keyFromText(key, raw("record")) : raw("record")} from ${raw(name)} where role in (${names})`,
    );
    if (selects.length === 0) {
      const none: Place = { table: scoped, alias: "l" };
      const scope = this.#within(none);
      return sql`array(select ${column(scope, none, key)} from ${tableAs(scope, none)} where false)`;
    }
    const held = sql`array(${join(selects, " union all ")})`;
    const open = this.#scopedCounts(role, "checked");
    if (open.length === 0) return held;
    const isOpen = sql`exists (select 1 from (${join(open, " union all ")}) as c(n) where n = ${raw(String(Bad))})`;
    return sql`case when not ${isOpen} then ${held} end`;
  }

  #people(): People {
    return this.#ruleset.schema.people as People;
  }

  #fields(): Field[] {
    return (this.#ruleset.schema.people?.roles ?? []).flatMap((one) => (one.kind === "field" ? [one.field] : []));
  }

  #scoped(table: string): HeldTable[] {
    return this.#held.filter(({ source }) => source.isMixed || source.on?.type.target === table);
  }

  /** A field of the current user. */
  #own(field: Field): Fragment {
    const person: Place = { table: this.#people().table, alias: personAlias };
    return column(this.#within(person), person, field);
  }

  #personScope(): Scope {
    return this.#within({ table: this.#people().table, alias: personAlias });
  }

  /** Whether a record of a link table counts now, as a number; undefined where it always does. */
  #running({ from, until }: Link, scope: Scope): Fragment | undefined {
    const isEnding = from !== undefined || until !== undefined;
    return isEnding ? truthNumber(isRunningLink({ from, until }), scope) : undefined;
  }

  /** Whether something that a role brings is excluded by another role. */
  #isUncertain(role: string): boolean {
    return this.#exclusions(role).length > 0;
  }

  #exclusions(name: string): (readonly [string, string])[] {
    const role = this.#ruleset.schema.roles.get(name);
    return role === undefined ? [] : exclusionsOf(role, this.#ruleset.schema);
  }

  /** True, or bad where something that the role brings may be held together with what excludes it. */
  #soundness(role: string): Fragment {
    const pairs = this.#exclusions(role).map(([one, other]) =>
      allOf([one, other].map((name) => sql`${this.#storedNumber(name)} <> ${raw(String(False))}`)),
    );
    return sql`case when ${anyOf(pairs)} then ${raw(String(Bad))} else ${raw(String(True))} end`;
  }

  /** Whether a role is held by what is stored; a scoped one on any record. */
  #storedNumber(role: string): Fragment {
    if (this.#ruleset.schema.roles.get(role)?.scope === undefined) {
      const met = this.member(role, "stored");
      return met.kind === "open" ? this.numberOf(met.name) : truthNumber(met, this.#personScope());
    }
    const counts = this.#scopedCounts(role, "stored");
    if (counts.length === 0) return raw(String(False));
    const [none, bad, held] = [False, Bad, True].map((truth) => raw(String(truth))) as [Fragment, Fragment, Fragment];
    const isNone = sql`not coalesce(bool_or(n <> ${none}), false)`;
    const number = sql`case when ${isNone} then ${none} when bool_or(n = ${bad}) then ${bad} else ${held} end`;
    return sql`(select ${number} from (${join(counts, " union all ")}) as c(n))`;
  }

  /** The role itself, and those that include it. */
  #bringing(name: string): string[] {
    const roles = [...this.#ruleset.schema.roles.values()];
    return roles.filter((role) => role.closure.has(name)).map((role) => role.name);
  }

  /** Whether one of some roles is given in a field, or in a link table for all records, as a number. */
  #given(roles: readonly string[], how: "anyhow" | "assigned" = "anyhow"): Fragment {
    if (roles.length === 0) return raw(String(False));
    const names = namesIn(roles);
    const ofFields =
      how === "assigned"
        ? []
        : this.#fields().map((field) => {
            const held = this.#own(field);
            const isGiven =
              field.type.element === undefined
                ? sql`cast(${held} as text) in (${names})`
                : sql`cast(${held} as text[]) && array[${names}]`;
            return sql`case when ${isGiven} then ${raw(String(True))} else ${raw(String(False))} end`;
          });
    const ofLinks = this.#held
      .filter(({ source }) => source.isMixed || (source.on === undefined && how === "anyhow"))
      .map(
        ({ name }) => sql`coalesce((select max(n) from ${raw(name)} where role in (${names})), ${raw(String(False))})`,
      );
    const numbers = [...ofFields, ...ofLinks];
    const [only = raw(String(False)), ...more] = numbers;
    return more.length === 0 ? only : sql`greatest(${join(numbers, ", ")})`;
  }

  /** Selects that give a number for each record on which a scoped role is held; `uncertain`: those that may be open alone. */
  #scopedCounts(role: string, how: "stored" | "checked"): Fragment[] {
    const bringing = this.#bringing(role);
    const uncertain = how === "stored" ? [] : bringing.filter((one) => this.#isUncertain(one));
    const sure = bringing.filter((one) => !uncertain.includes(one));
    return this.#scoped(this.#ruleset.schema.roles.get(role)?.scope ?? "").flatMap(({ source, name }) => {
      const select = (number: Fragment, roles: readonly string[]) =>
        sql`select ${number} from ${raw(name)} where role in (${namesIn(roles)})`;
      const mayBeOpen = source.from !== undefined || source.until !== undefined;
      const sureOnes = sure.length > 0 && (how === "stored" || mayBeOpen) ? [select(raw("n"), sure)] : [];
      const uncertainOnes = uncertain.map((one) => select(sql`least(n, ${this.#soundness(one)})`, [one]));
      return [...sureOnes, ...uncertainOnes];
    });
  }
}

function namesIn(roles: readonly string[]): Fragment {
  return raw(roles.map(literal).join(", "));
}

/** The key of a record as a text holds it; null for a text that is none. */
function keyFromText({ type }: Field, text: Fragment): Fragment {
  if (type.base === "text" || type.base === "choice") return text;
  if (type.base === "integer") return sql`case when ${text} ~ '^-?[0-9]{1,18}$' then cast(${text} as bigint) end`;
  const what = `row security cannot hold roles that are assigned on records with a ${type.noun} as their key`;
  throw portierError("wrong-call", { what, hint: "give the table a key that is a text or an integer" });
}
