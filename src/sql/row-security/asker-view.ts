import { and, type Expression, not, type Operand, or, type SessionOperand } from "../../conditions/expression.js";
import { Bad, False, True } from "../../conditions/truth.js";
import { type Ruleset, sessionOperandName } from "../../rules/compile-rules.js";
import type { Group, Member } from "../../rules/groups.js";
import { portierError } from "../../schema/problems.js";
import { type Field, type People, type RoleSource, singleKey } from "../../schema/schema.js";
import type { FieldType } from "../../schema/types/field-type.js";
import type { Plan } from "../../session/plan.js";
import { truthNumber } from "../condition.js";
import { type Formula, test } from "../formula.js";
import { allOf, anyOf, type Fragment, fact, join, raw, sql } from "../fragment.js";
import { postgres } from "../postgres.js";
import { column, type OpenAsker, type Place, type Scope, scopeOf, tableAs } from "../scope.js";
import { Joins } from "../value.js";
import { literal, Names, qualified, written } from "./ddl.js";
import type { Schemas } from "./foundation.js";

type Link = Extract<RoleSource, { kind: "link" }>;

/**
 * The one who asks, as a view of one row that holds what the rules ask of them: fields, roles and groups as numbers of
 * truth values, the keys of records on which roles are held, values of the request. Its columns are made as conditions
 * ask for them; the view is written last.
 */
export class AskerView implements OpenAsker {
  readonly #ruleset: Ruleset;
  readonly #plan: Plan;
  readonly schema: string;
  /** The schema that the view is in. */
  readonly #inside: string;
  readonly #columns = new Map<string, Fragment>();
  readonly #names = new Names();

  constructor(ruleset: Ruleset, plan: Plan, { tables, inside }: Schemas) {
    this.#ruleset = ruleset;
    this.#plan = plan;
    this.schema = tables;
    this.#inside = inside;
    this.#fact("meets", "meets", () => this.#meets());
  }

  /** Whether a rule can be met at all: by a visitor, or a person who is there and active. */
  get meets(): Formula {
    return test(fact("meets"), true);
  }

  value(operand: SessionOperand): Fragment {
    const name = sessionOperandName(operand);
    const isList = operand.type.element !== undefined;
    return this.#fact(name.replace(/^me\./, ""), name, () => this.#read(operand), isList);
  }

  membership(name: string): Fragment {
    return this.#fact(name, `in ${name}`, () => {
      const person = this.#person();
      const met = this.#member(name);
      if (met.kind === "open") return this.#numberOf(met.name, person);
      const number = truthNumber(met, this.#within(person));
      return sql`case when ${this.#isVisitor(person)} then ${raw(String(False))} else ${number} end`;
    });
  }

  held(role: string): Fragment {
    return this.#fact(`${role} of`, `held ${role}`, () => this.#heldKeys(role), true);
  }

  /** The view, once everything that asks for its columns is written. */
  statement(): string {
    const quote = postgres.quoteName;
    const columns = [...this.#columns].map(([name, value]) => `  ${written(value)} as ${quote(name)}`);
    const from = `  from (select ${qualified(this.#inside, "said")}() as said) a`;
    const { people } = this.#ruleset.schema;
    if (people === undefined) return this.#view(columns, from);
    const person = this.#person();
    const scope = this.#within(person);
    const key = written(column(scope, person, keyOf(people)));
    const isAsking = `${key} = ${qualified(this.#inside, "person")}(a.said)`;
    return this.#view(columns, `${from}\n  left join ${written(tableAs(scope, person))} on ${isAsking}`);
  }

  #view(columns: readonly string[], from: string): string {
    return `create view ${qualified(this.#inside, "asker")} as select\n${columns.join(",\n")}\n${from}`;
  }

  #fact(wanted: string, id: string, make: () => Fragment, isList = false): Fragment {
    const name = this.#names.of(wanted, id);
    if (!this.#columns.has(name)) this.#columns.set(name, make());
    return fact(name, isList);
  }

  /** The row of the one who asks, in the view. */
  #person(): Place {
    const { people } = this.#ruleset.schema;
    if (people === undefined) throw portierError("no-people", { what: "row security for a person" });
    return { table: people.table, alias: "p" };
  }

  /** Inside the view its own row is at hand, and is read as it is. */
  #within(person: Place): Scope {
    const own: OpenAsker = {
      schema: this.schema,
      value: (operand) => this.#read(operand),
      membership: (name) => this.#numberOf(name, person),
      // Conditions on a person ask for no scoped role.
      held: () => raw("null"),
    };
    return scopeOf(postgres, this.#plan, person, own);
  }

  #isVisitor(person: Place): Fragment {
    return sql`${this.#key(person)} is null`;
  }

  #key(person: Place): Fragment {
    return column(this.#within(person), person, person.table.key[0] as Field);
  }

  #read(operand: SessionOperand): Fragment {
    switch (operand.kind) {
      case "request":
        return operand.name === "now" ? now : ofRequest(operand.type, operand.name);
      case "today":
        return sql`cast(${now} at time zone ${raw(literal(this.#ruleset.schema.timeZone))} as date)`;
      case "me": {
        const person = this.#person();
        const joins = new Joins(this.#within(person));
        const [part] = joins.path(person, operand.path);
        if (joins.broken === undefined && part !== undefined) return joins.select(part.stored);
        const what = `row security cannot hold rules that ask for ${sessionOperandName(operand)}: a key on the way may be unreadable`;
        throw portierError("wrong-call", { what, hint: "ask by way of keys that are texts or integers" });
      }
      case "held":
        return this.#heldKeys(operand.role);
      default:
        return operand satisfies never;
    }
  }

  /** A person's role that is none, or of another kind, is a fault: never silently nothing. */
  #meets(): Fragment {
    const { people } = this.#ruleset.schema;
    if (people === undefined) return raw("a.said is not null");
    const person = this.#person();
    const scope = this.#within(person);
    const isActive = people.active === undefined ? [] : [sql`${column(scope, person, people.active)} is true`];
    const isThere = allOf([sql`not ${this.#isVisitor(person)}`, ...isActive]);
    const met = sql`(a.said is not null and ${anyOf([raw("a.said ->> 'person' is null"), isThere])})`;
    if (people.roles.length === 0) return met;
    const wrong = anyOf(people.roles.map((source) => this.#namesWrongRole(source, person)));
    const fault = raw(`${qualified(this.#inside, "fault")}(${literal(wrongRole)})`);
    return sql`case when ${isThere} and ${wrong} then ${fault} else ${met} end`;
  }

  #namesWrongRole(source: RoleSource, person: Place): Fragment {
    const all = [...this.#ruleset.schema.roles.values()];
    const namesOf = (roles: readonly { readonly name: string }[]) =>
      raw(`array[${roles.map(({ name }) => literal(name)).join(", ")}]::text[]`);
    if (source.kind === "field") {
      const known = namesOf(all.filter(({ scope }) => scope === undefined));
      const held = column(this.#within(person), person, source.field);
      if (source.field.type.element === undefined) return sql`not cast(${held} as text) = any (${known})`;
      return sql`exists (select 1 from unnest(${held}) as r(name) where (cast(r.name as text) = any (${known})) is not true)`;
    }
    const { on, isMixed } = source;
    return this.#linked(source, person, (role, link) => {
      if (!isMixed) {
        const known = namesOf(all.filter(({ scope }) => scope === on?.type.target));
        return sql`not cast(${role} as text) = any (${known})`;
      }
      const record = column(this.#within(link), link, on as Field);
      const whole = namesOf([...all.filter(({ scope }) => scope === undefined), ...this.#ruleset.groups.values()]);
      const scoped = namesOf(all.filter(({ scope }) => scope !== undefined));
      return sql`not ${role} = any (case when ${record} is null then ${whole} else ${scoped} end)`;
    });
  }

  /** Whether a record of a link table, as far as it is not over for certain, gives this person a role that is meant. */
  #linked(source: Link, person: Place, isMeant: (role: Fragment, link: Place) => Fragment): Fragment {
    const { link, from, isGiven } = this.#links(source, person);
    const role = column(this.#within(link), link, source.role);
    const counts = this.#running(source, link);
    const isThere = allOf([isGiven, isMeant(role, link), ...(counts === undefined ? [] : [sql`${counts} <> 0`])]);
    return sql`exists (select 1 from ${from} where ${isThere})`;
  }

  /** The records of a link table that are about this person. */
  #links(source: Link, person: Place) {
    const link: Place = { table: source.table, alias: "l" };
    const scope = this.#within(link);
    const isTheirs = sql`${column(scope, link, source.person)} = ${this.#key(person)}`;
    const counts =
      source.on === undefined || source.isMixed ? [] : [sql`${column(scope, link, source.on)} is not null`];
    return { link, from: tableAs(scope, link), isGiven: allOf([isTheirs, ...counts]) };
  }

  /** Whether a record of a link table counts now, as a number; undefined where it always does. */
  #running({ from, until }: Link, link: Place): Fragment | undefined {
    const terms = [from, until].flatMap((field, index): Expression[] => {
      if (field === undefined) return [];
      const left: Operand = { kind: "field", type: field.type, path: [field] };
      const right: Operand = { kind: "request", type: field.type, name: "now" };
      return [
        or([
          { kind: "is-null", operand: left },
          { kind: "compare", op: index === 0 ? "<=" : ">", left, right },
        ]),
      ];
    });
    return terms.length === 0 ? undefined : truthNumber(and(terms), this.#within(link));
  }

  /**
   * What conditions on a person's own record leave open: `NAME` a role as it is given and counts, `stored NAME` as it is
   * given whatever excludes it, `sound NAME` whether what the role brings counts, `named NAME` a group as it is assigned.
   */
  #numberOf(name: string, person: Place): Fragment {
    const [how, role] = name.includes(" ") ? (name.split(" ") as [string, string]) : ["given", name];
    if (how === "sound") return this.#soundness(role, person);
    if (how === "named") return this.#given([role], person, "assigned");
    const isStored = how === "stored";
    const bringing = this.#bringing(role);
    const doubted = isStored ? [] : bringing.filter((one) => this.#isDoubted(one));
    const sure = this.#given(
      bringing.filter((one) => !doubted.includes(one)),
      person,
    );
    if (doubted.length === 0) return sure;
    const numbers = doubted.map((one) => sql`least(${this.#given([one], person)}, ${this.#soundness(one, person)})`);
    return sql`greatest(${join([sure, ...numbers], ", ")})`;
  }

  /** Whether something that a role brings is excluded by another role. */
  #isDoubted(role: string): boolean {
    return this.#exclusions(role).length > 0;
  }

  #exclusions(role: string): (readonly [string, string])[] {
    const { roles } = this.#ruleset.schema;
    return [...(roles.get(role)?.closure ?? [])].flatMap((held) =>
      [...(roles.get(held)?.exclusive ?? [])].map((other) => [held, other] as const),
    );
  }

  /** True, or bad where something that the role brings is held together with what excludes it. */
  #soundness(role: string, person: Place): Fragment {
    const pairs = this.#exclusions(role).map(([one, other]) =>
      allOf([one, other].map((name) => sql`${this.#storedNumber(name, person)} = ${raw(String(True))}`)),
    );
    return sql`case when ${anyOf(pairs)} then ${raw(String(Bad))} else ${raw(String(True))} end`;
  }

  /** Whether a role is held by what is stored; a scoped one on any record. */
  #storedNumber(role: string, person: Place): Fragment {
    if (this.#ruleset.schema.roles.get(role)?.scope === undefined) {
      const met = this.#member(role, "stored");
      return met.kind === "open" ? this.#numberOf(met.name, person) : truthNumber(met, this.#within(person));
    }
    const counts = this.#scopedCounts(role, person, "stored");
    if (counts.length === 0) return raw(String(False));
    const [none, bad, held] = [False, Bad, True].map((truth) => raw(String(truth))) as [Fragment, Fragment, Fragment];
    const isNone = sql`not coalesce(bool_or(n <> ${none}), false)`;
    const number = sql`case when ${isNone} then ${none} when bool_or(n = ${bad}) then ${bad} else ${held} end`;
    return sql`(select ${number} from (${join(counts, " union all ")}) as c(n))`;
  }

  /** Whether a person holds a role or is in a group, as a condition on their own record. */
  #member(name: string, how: "given" | "stored" = "given"): Expression {
    const { groups } = this.#ruleset;
    const group = groups.get(name);
    if (group !== undefined) return this.#inGroup(group, how);
    const open = (one: string): Expression => ({ kind: "open", name: one });
    const carried = (this.#ruleset.carriers.get(name) ?? []).map(({ group: carrier, role }) => {
      const isOpen = how === "given" && this.#isDoubted(role.name);
      return and([this.#inGroup(carrier, how), ...(isOpen ? [open(`sound ${role.name}`)] : [])]);
    });
    return or([open(how === "given" ? name : `stored ${name}`), ...carried]);
  }

  /** The role itself, and those that include it. */
  #bringing(name: string): string[] {
    const roles = [...this.#ruleset.schema.roles.values()];
    return roles.filter((role) => role.closure.has(name)).map((role) => role.name);
  }

  #inGroup({ name, members, where, without }: Group, how: "given" | "stored"): Expression {
    const any = (list: readonly Member[]) => or(list.map((member) => this.#meetsMember(member, how)));
    const isAssigned = this.#ruleset.schema.kept !== undefined;
    const named: Expression[] = isAssigned ? [{ kind: "open", name: `named ${name}` }] : [];
    return and([or([any(members), ...named]), where, not(any(without))]);
  }

  #meetsMember(member: Member, how: "given" | "stored"): Expression {
    switch (member.kind) {
      case "member":
        return this.#member(member.name, how);
      case "where":
        return member.condition;
      case "person":
      case "below": {
        const people = this.#ruleset.schema.people as People;
        const key = keyOf(people);
        const left: Operand = { kind: "field", type: key.type, path: [key] };
        const isThem: Expression = { kind: "compare", op: "=", left, right: member.key };
        if (member.kind === "person" || people.manager === undefined) return isThem;
        return or([isThem, { kind: "above", path: [key], line: people.manager, asker: member.key }]);
      }
      default:
        return member satisfies never;
    }
  }

  /** Whether one of some roles is given in a field, or in a link table for all records, as a number. */
  #given(roles: readonly string[], person: Place, how: "anyhow" | "assigned" = "anyhow"): Fragment {
    const names = raw(roles.map(literal).join(", "));
    const numbers = (this.#ruleset.schema.people?.roles ?? []).flatMap((source): Fragment[] => {
      const isMeantHere = how === "anyhow" || (source.kind === "link" && source.isMixed);
      if (roles.length === 0 || !isMeantHere) return [];
      const number = (isGiven: Fragment) =>
        sql`case when ${isGiven} then ${raw(String(True))} else ${raw(String(False))} end`;
      if (source.kind === "link") {
        if (source.on !== undefined && !source.isMixed) return [];
        const { link, from, isGiven } = this.#links(source, person);
        const isNamed = sql`cast(${column(this.#within(link), link, source.role)} as text) in (${names})`;
        const isMeant = allOf([isGiven, isNamed]);
        const counts = this.#running(source, link);
        if (counts === undefined) return [number(sql`exists (select 1 from ${from} where ${isMeant})`)];
        return [sql`coalesce((select max(${counts}) from ${from} where ${isMeant}), ${raw(String(False))})`];
      }
      const held = column(this.#within(person), person, source.field);
      if (source.field.type.element === undefined) return [number(sql`cast(${held} as text) in (${names})`)];
      return [number(sql`cast(${held} as text[]) && array[${names}]`)];
    });
    const [only = raw(String(False)), ...more] = numbers;
    return more.length === 0 ? only : sql`greatest(${join(numbers, ", ")})`;
  }

  /** The keys of the records on which the one who asks holds a role, or one that includes it; null where that is not known. */
  #heldKeys(role: string): Fragment {
    const { schema } = this.#ruleset;
    const scoped = this.#plan.of(schema.roles.get(role)?.scope ?? "").table;
    const person = this.#person();
    const [key] = scoped.key as [Field];
    if (scoped.key.length > 1) {
      const what = `row security cannot hold the role "${role}": "${scoped.name}" has a key of several fields`;
      throw portierError("wrong-call", { what, hint: "give the table a key of one field" });
    }
    const bringing = this.#bringing(role);
    const names = raw(bringing.map(literal).join(", "));
    const selects = this.#scopedSources(scoped.name).map((source) => {
      const { link, from, isGiven } = this.#links(source, person);
      const scope = this.#within(link);
      const on = column(scope, link, source.on as Field);
      const isNamed = sql`cast(${column(scope, link, source.role)} as text) in (${names})`;
      const counts = this.#running(source, link);
      const isThere = allOf([isGiven, isNamed, ...(counts === undefined ? [] : [sql`${counts} <> 0`])]);
      return sql`select ${source.isMixed ? keyFromText(key, on) : on} from ${from} where ${isThere}`;
    });
    if (selects.length === 0) {
      const none: Place = { table: scoped, alias: "l" };
      const scope = this.#within(none);
      return sql`array(select ${column(scope, none, key)} from ${tableAs(scope, none)} where false)`;
    }
    const held = sql`array(${join(selects, " union all ")})`;
    const open = this.#scopedCounts(role, person, "doubted");
    if (open.length === 0) return held;
    const isOpen = sql`exists (select 1 from (${join(open, " union all ")}) as c(n) where n = ${raw(String(Bad))})`;
    return sql`case when not ${isOpen} then ${held} end`;
  }

  /** Selects that give a number for each record on which a scoped role is held; `doubted`: those that may be open alone. */
  #scopedCounts(role: string, person: Place, how: "stored" | "doubted"): Fragment[] {
    const bringing = this.#bringing(role);
    const doubted = how === "stored" ? [] : bringing.filter((one) => this.#isDoubted(one));
    const sure = bringing.filter((one) => !doubted.includes(one));
    const always = raw(String(True));
    return this.#scopedSources(this.#ruleset.schema.roles.get(role)?.scope ?? "").flatMap((source) => {
      const { link, from, isGiven } = this.#links(source, person);
      const named = column(this.#within(link), link, source.role);
      const counts = this.#running(source, link);
      const select = (number: Fragment, roles: readonly string[]) =>
        sql`select ${number} from ${from} where ${isGiven} and cast(${named} as text) in (${raw(roles.map(literal).join(", "))})`;
      const sureOnes =
        sure.length > 0 && (how === "stored" || counts !== undefined) ? [select(counts ?? always, sure)] : [];
      const doubtedOnes = doubted.map((one) =>
        select(sql`least(${counts ?? always}, ${this.#soundness(one, person)})`, [one]),
      );
      return [...sureOnes, ...doubtedOnes];
    });
  }

  #scopedSources(table: string): Link[] {
    return (this.#ruleset.schema.people?.roles ?? []).filter(
      (source): source is Link => source.kind === "link" && (source.isMixed || source.on?.type.target === table),
    );
  }
}

/** The key of a record as a text holds it; null for a text that is none. */
function keyFromText({ type }: Field, text: Fragment): Fragment {
  if (type.base === "text" || type.base === "choice") return text;
  if (type.base === "integer") return sql`case when ${text} ~ '^-?[0-9]{1,18}$' then cast(${text} as bigint) end`;
  const what = `row security cannot hold roles that are assigned on records with a ${type.label} as their key`;
  throw portierError("wrong-call", { what, hint: "give the table a key that is a text or an integer" });
}

const wrongRole = "a role of the person who asks is not in the document, or is held in another way there";

const now = raw("coalesce(cast(a.said -> 'request' ->> 'now' as timestamptz), now())");

function keyOf(people: People): Field {
  return singleKey(people.table) as Field;
}

/** A value of the request, which comes as JSON. */
function ofRequest(type: FieldType, name: string): Fragment {
  const columnType = raw(postgres.columnType(type, false));
  if (type.element === undefined) {
    return sql`cast(a.said -> 'request' ->> ${raw(literal(name))} as ${columnType})`;
  }
  const list = raw(`a.said -> 'request' -> ${literal(name)}`);
  const elements = sql`cast(array(select jsonb_array_elements_text(${list})) as ${columnType})`;
  return sql`case when jsonb_typeof(${list}) = 'array' then ${elements} end`;
}
