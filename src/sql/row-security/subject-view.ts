import type { SessionOperand } from "../../conditions/expression.js";
import { sessionOperandName } from "../../conditions/session-operand.js";
import { Bad, False, True, type Truth } from "../../conditions/truth.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { portierError } from "../../schema/problems.js";
import { isOwn, type People, type Table } from "../../schema/schema.js";
import type { FieldType } from "../../schema/types/field-type.js";
import type { Plan } from "../../session/plan.js";
import { truthNumber } from "../condition.js";
import { type Formula, print, test } from "../formula.js";
import { allOf, anyOf, type Fact, type Fragment, join, raw, sql } from "../fragment.js";
import type { Place } from "../place.js";
import { postgres } from "../postgres.js";
import { column, type OpenSubject, type Scope, scopeOf, sourceName } from "../scope.js";
import { Joins } from "../value.js";
import { enclosed, type FactWriter, literal, Names, qualified, type Schemas, written } from "./ddl.js";
import { HeldRoles, keyOf, personAlias } from "./held-roles.js";
import { HeldSettings } from "./held-settings.js";

/**
 * The current user, as a view of one row that holds what the rules ask of them: fields, whether they hold a role or are in a
 * group, the keys of records on which roles are held, values of the request. Its columns are made as conditions ask for
 * them; the view is written last.
 */
export class SubjectView implements OpenSubject {
  readonly #ruleset: Ruleset;
  readonly #plan: Plan;
  readonly #schemas: Schemas;
  readonly #roles: HeldRoles;
  readonly #settings: HeldSettings | undefined;
  readonly #columns = new Map<string, SubjectColumn>();
  readonly #guards = new Map<string, { readonly name: string; readonly one: Formula }>();
  readonly #names = new Names();

  constructor(ruleset: Ruleset, plan: Plan, schemas: Schemas) {
    this.#ruleset = ruleset;
    this.#plan = plan;
    this.#schemas = schemas;
    this.#roles = new HeldRoles(ruleset, (place) => this.#within(place));
    this.#settings = HeldSettings.of(ruleset, (place) => this.#within(place));
    this.#column("meets", { wanted: "meets", kind: "truth" }, () => this.#meets());
  }

  sourceOf(table: Table): string {
    return sourceName(postgres, table, this.#schemas.tables);
  }

  /** Whether a rule can be met at all: by a visitor, or a person who is there and active. */
  get meets(): Formula {
    return test([{ fact: "meets", kind: "truth" }], true);
  }

  value(operand: SessionOperand): Fragment {
    const name = sessionOperandName(operand);
    const kind = operand.type.element === undefined ? "value" : "list";
    return [this.#column(name, { wanted: name.replace(/^me\./, ""), kind }, () => this.#read(operand))];
  }

  membership(name: string, among: readonly Truth[]): Fragment {
    const set = this.#settings?.ofTable(name);
    if (set !== undefined) {
      const list = this.#column(set.fact, { wanted: set.fact, kind: "list" }, () => set.list);
      const isSet: Fragment = [{ ...list, has: set.element }];
      return among.includes(True) ? isSet : sql`not ${isSet}`;
    }
    const truth = this.#column(`in ${name} ${among}`, { wanted: testName(name, among), kind: "truth" }, () => {
      const met = this.#roles.member(name);
      if (met.kind === "open") return isAmong(this.#roles.numberOf(met.name), among);
      const isMet = isAmong(truthNumber(met, this.#within(this.#person())), among);
      return sql`case when ${this.#isVisitor()} then ${raw(String(among.includes(False)))} else ${isMet} end`;
    });
    return [truth];
  }

  held(role: string): Fragment {
    const set = this.#settings?.ofRecords(role);
    if (set !== undefined) {
      return set.keys([this.#column(set.fact, { wanted: set.fact, kind: "list" }, () => set.list)]);
    }
    return [this.#column(`held ${role}`, { wanted: `${role} of`, kind: "list" }, () => this.#heldKeys(role))];
  }

  /** A condition that asks the current user alone, as something that is true of them or not: for the overlay. */
  guard(one: Formula): Formula {
    const id = JSON.stringify(print(one));
    const name = this.#guards.get(id)?.name ?? this.#guardName(one);
    this.#guards.set(id, { name, one });
    return test([{ fact: name, kind: "truth" }], true);
  }

  /** The condition in words; where these are, each stands between brackets. */
  #guardName(one: Formula): string {
    const text = written(print(one), ({ fact, has }) => (has === undefined ? fact : `${fact} ${has}`));
    const bare = text.startsWith("(") && enclosed(text) === text ? text.slice(1, -1) : text;
    const said = bare.replace(/\((\([^()]*\)|[\w ]+)\) is not true/g, "not $1");
    const wanted = said.replaceAll("[", "(").replaceAll("]", ")");
    const isTaken = (name: string) => [...this.#guards.values()].some((guard) => guard.name === name);
    let name = wanted;
    for (let n = 2; isTaken(name); n++) name = `${wanted} ${n}`;
    return name;
  }

  /** What is true of the current user, with an expression for each; `facts` says where they are found. */
  truths(facts: FactWriter): readonly (readonly [name: string, test: string])[] {
    const truths = this.facts.filter(({ kind }) => kind === "truth");
    const guards = [...this.#guards.values()].map(({ name, one }) => [name, written(print(one), facts)] as const);
    return [...truths.map((one) => [one.fact, facts(one)] as const), ...guards];
  }

  /** The columns, once everything that asks for them is written. */
  get facts(): readonly Fact[] {
    return [...this.#columns].map(([name, { kind }]) => ({ fact: name, kind }));
  }

  /** The view, once everything that asks for its columns is written. */
  statement(): string {
    const quote = postgres.quoteName;
    const { inside } = this.#schemas;
    const { people } = this.#ruleset.schema;
    const columns = [...this.#columns].map(([name, { value }]) => `  ${written(value)} as ${quote(name)}`);
    // Whoever reads the view sets "portier.claims" just before. "offset 0": it is read once, and not again for each part that
    // asks for it.
    const said = `select claims, coalesce(cast(claims -> 'request' ->> 'now' as timestamptz), now()) as now
  from (select nullif(current_setting('portier.claims', true), '')::jsonb as claims offset 0) s`;
    const view = (tables: string, from: string) =>
      `create view ${qualified(inside, "subject")} as ${tables}select\n${columns.join(",\n")}\nfrom ${from}`;
    if (people === undefined) return view("", `(\n  ${said}\n) a`);
    const isTheirs = `${quote(keyOf(people).column)} = ${qualified(inside, "person")}(a.claims)`;
    const held = [...this.#roles.tables(), ...this.#setTable(people)];
    const source = this.sourceOf(people.table);
    if (held.length === 0) {
      return view("", `(\n  ${said}\n) a left join ${source} ${personAlias} on ${personAlias}.${isTheirs}`);
    }
    const own = people.table.fields.filter(isOwn).map((field) => `r.${quote(field.column)}`);
    const tables = [
      `a as materialized (\n  ${said}\n)`,
      `${personAlias} as materialized (\n  select ${own.join(", ")} from a join ${source} r on r.${isTheirs}\n)`,
      ...held,
    ];
    return view(`with ${tables.join(", ")}\n`, `a left join ${personAlias} on true`);
  }

  #setTable(people: People): string[] {
    const own = `(select ${postgres.quoteName(keyOf(people).column)} from ${personAlias})`;
    return this.#settings === undefined ? [] : [this.#settings.table(own)];
  }

  /** A column, which is made where it is not there; `id` tells apart those that would be called alike. */
  #column(
    id: string,
    { wanted, kind }: { readonly wanted: string; readonly kind: Fact["kind"] },
    make: () => Fragment,
  ): Fact {
    const name = this.#names.of(wanted, id);
    if (!this.#columns.has(name)) this.#columns.set(name, { value: make(), kind });
    return { fact: name, kind };
  }

  /** The row of the current user, in the view. */
  #person(): Place {
    const { people } = this.#ruleset.schema;
    if (people === undefined) throw portierError("no-people", { what: "row security for a person" });
    return { table: people.table, alias: personAlias };
  }

  /** Inside the view its own row is at hand, and is read as it is. */
  #within(place: Place): Scope {
    const own: OpenSubject = {
      sourceOf: (table) => this.sourceOf(table),
      value: (operand) => this.#read(operand),
      membership: (name, among) => isAmong(this.#roles.numberOf(name), among),
      // Conditions on a person ask for no scoped role.
      held: () => raw("null"),
    };
    return scopeOf(postgres, { plan: this.#plan }, place, own);
  }

  #isVisitor(): Fragment {
    const person = this.#person();
    const { people } = this.#ruleset.schema;
    return people === undefined ? raw("true") : sql`${column(this.#within(person), person, keyOf(people))} is null`;
  }

  #read(operand: SessionOperand): Fragment {
    switch (operand.kind) {
      case "request":
        return operand.name === "now" ? raw("a.now") : ofRequest(operand.type, operand.name);
      case "today":
        return sql`cast(a.now at time zone ${raw(literal(this.#ruleset.schema.timeZone))} as date)`;
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

  #heldKeys(role: string): Fragment {
    return this.#roles.keysOf(role, this.#plan.of(this.#ruleset.schema.roles.get(role)?.scope ?? "").table);
  }

  /** A person's role that is none, or of another kind, is a fault: never silently nothing. */
  #meets(): Fragment {
    const { people } = this.#ruleset.schema;
    if (people === undefined) return raw("a.claims is not null");
    const person = this.#person();
    const scope = this.#within(person);
    const isActive = people.active === undefined ? [] : [sql`${column(scope, person, people.active)} is true`];
    const isThere = allOf([sql`not ${this.#isVisitor()}`, ...isActive]);
    const met = sql`(a.claims is not null and ${anyOf([raw("a.claims ->> 'person' is null"), isThere])})`;
    const faults: Fragment[] = [];
    const faultOf = (what: string, isWrong: Fragment) =>
      faults.push(
        sql`when ${isThere} and ${isWrong} then ${raw(`${qualified(this.#schemas.inside, "fault")}(${literal(what)})`)}`,
      );
    if (people.roles.length > 0) faultOf(wrongRole, this.#roles.namesWrongRole());
    if (this.#settings !== undefined) faultOf(wrongSetting, this.#settings.isWrong());
    return faults.length === 0 ? met : sql`case ${join(faults, " ")} else ${met} end`;
  }
}

interface SubjectColumn {
  readonly value: Fragment;
  readonly kind: Fact["kind"];
}

/** Whether a number of a truth value is one of some. */
function isAmong(number: Fragment, among: readonly Truth[]): Fragment {
  const [only] = among;
  return among.length === 1 ? sql`${number} = ${raw(String(only))}` : sql`${number} in (${raw(among.join(", "))})`;
}

/** What is held, is not held, or may be either. */
function testName(name: string, among: readonly Truth[]): string {
  const sought = among.includes(True) ? name : `not ${name}`;
  return among.includes(Bad) ? `perhaps ${sought}` : sought;
}

const wrongSetting =
  "a setting of the current user names a table, field, level or record that the document does not have";
const wrongRole = "a role of the current user is not in the document, or is held in another way there";

/** A value of the request, which comes as JSON. */
function ofRequest(type: FieldType, name: string): Fragment {
  const columnType = raw(postgres.columnType(type, false));
  if (type.element === undefined) {
    return sql`cast(a.claims -> 'request' ->> ${raw(literal(name))} as ${columnType})`;
  }
  const list = raw(`a.claims -> 'request' -> ${literal(name)}`);
  const elements = sql`cast(array(select jsonb_array_elements_text(${list})) as ${columnType})`;
  return sql`case when jsonb_typeof(${list}) = 'array' then ${elements} end`;
}
