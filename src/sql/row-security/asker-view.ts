import { and, type Expression, not, type Operand, or, type SessionOperand } from "../../conditions/expression.js";
import { False, True } from "../../conditions/truth.js";
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
      if (met.kind === "open") return this.#given(met.name, person);
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
      membership: (role) => this.#given(role, person),
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
    const target = source.kind === "link" ? source.on?.type.target : undefined;
    const roles = [...this.#ruleset.schema.roles.values()].filter(({ scope }) => scope === target);
    const known = raw(`array[${roles.map(({ name }) => literal(name)).join(", ")}]::text[]`);
    if (source.kind === "field") {
      const held = column(this.#within(person), person, source.field);
      if (source.field.type.element === undefined) return sql`not cast(${held} as text) = any (${known})`;
      return sql`exists (select 1 from unnest(${held}) as r(name) where (cast(r.name as text) = any (${known})) is not true)`;
    }
    return this.#linked(source, person, (role) => sql`not cast(${role} as text) = any (${known})`);
  }

  /** Whether a record of a link table gives this person a role that is meant. */
  #linked(
    source: Extract<RoleSource, { kind: "link" }>,
    person: Place,
    isMeant: (role: Fragment) => Fragment,
  ): Fragment {
    const link: Place = { table: source.table, alias: "l" };
    const scope = this.#within(link);
    const isTheirs = sql`${column(scope, link, source.person)} = ${this.#key(person)}`;
    const counts = source.on === undefined ? [] : [sql`${column(scope, link, source.on)} is not null`];
    const isGiven = allOf([isTheirs, ...counts, isMeant(column(scope, link, source.role))]);
    return sql`exists (select 1 from ${tableAs(scope, link)} where ${isGiven})`;
  }

  /** Whether a person holds a role or is in a group, as a condition on their own record. */
  #member(name: string): Expression {
    const { groups } = this.#ruleset;
    const group = groups.get(name);
    if (group !== undefined) return this.#inGroup(group);
    const bringing = new Set(this.#bringing(name));
    const carrying = [...groups.values()].filter((one) => one.roles.some((role) => bringing.has(role)));
    return or([{ kind: "open", name }, ...carrying.map((one) => this.#inGroup(one))]);
  }

  /** The role itself, and those that include it. */
  #bringing(name: string): string[] {
    const roles = [...this.#ruleset.schema.roles.values()];
    return roles.filter((role) => role.closure.has(name)).map((role) => role.name);
  }

  #inGroup({ members, where, without }: Group): Expression {
    const any = (list: readonly Member[]) => or(list.map((member) => this.#meetsMember(member)));
    return and([any(members), where, not(any(without))]);
  }

  #meetsMember(member: Member): Expression {
    switch (member.kind) {
      case "member":
        return this.#member(member.name);
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

  /** Whether a role is given in a field, or in a link table for all records: true or false, never unknown. */
  #given(role: string, person: Place): Fragment {
    const names = raw(this.#bringing(role).map(literal).join(", "));
    const given = (this.#ruleset.schema.people?.roles ?? []).flatMap((source): Fragment[] => {
      if (source.kind === "link") {
        if (source.on !== undefined) return [];
        return [this.#linked(source, person, (held) => sql`cast(${held} as text) in (${names})`)];
      }
      const held = column(this.#within(person), person, source.field);
      if (source.field.type.element === undefined) return [sql`cast(${held} as text) in (${names})`];
      return [sql`cast(${held} as text[]) && array[${names}]`];
    });
    return sql`case when ${anyOf(given)} then ${raw(String(True))} else ${raw(String(False))} end`;
  }

  /** The keys of the records on which the one who asks holds a role, or one that includes it. */
  #heldKeys(role: string): Fragment {
    const { schema } = this.#ruleset;
    const names = raw(this.#bringing(role).map(literal).join(", "));
    const scoped = this.#plan.of(schema.roles.get(role)?.scope ?? "").table;
    const person = this.#person();
    const selects = (schema.people?.roles ?? []).flatMap((source): Fragment[] => {
      if (source.kind === "field" || source.on?.type.target !== scoped.name) return [];
      const link: Place = { table: source.table, alias: "l" };
      const scope = this.#within(link);
      const key = column(scope, link, source.on);
      const given = sql`cast(${column(scope, link, source.role)} as text) in (${names})`;
      const isTheirs = sql`${column(scope, link, source.person)} = ${this.#key(person)}`;
      const isGiven = allOf([isTheirs, given, sql`${key} is not null`]);
      return [sql`select ${key} from ${tableAs(scope, link)} where ${isGiven}`];
    });
    if (selects.length > 0) return sql`array(${join(selects, " union all ")})`;
    const none: Place = { table: scoped, alias: "l" };
    const scope = this.#within(none);
    return sql`array(select ${column(scope, none, scoped.key[0] as Field)} from ${tableAs(scope, none)} where false)`;
  }
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
