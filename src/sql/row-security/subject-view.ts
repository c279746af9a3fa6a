import type { SessionOperand } from "../../conditions/expression.js";
import { sessionOperandName } from "../../conditions/session-operand.js";
import { False, True, type Truth } from "../../conditions/truth.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { portierError } from "../../schema/problems.js";
import { isOwn, type People, type Table } from "../../schema/schema.js";
import type { FieldType } from "../../schema/types/field-type.js";
import type { Plan } from "../../session/plan.js";
import { truthNumber } from "../condition.js";
import { type Formula, test } from "../formula.js";
import { allOf, anyOf, type Fragment, fact, hasFact, isFactAmong, join, raw, sql } from "../fragment.js";
import { postgres } from "../postgres.js";
import { column, type OpenSubject, type Place, type Scope, scopeOf, sourceName } from "../scope.js";
import { Joins } from "../value.js";
import { literal, Names, qualified, type Schemas, written } from "./ddl.js";
import { HeldRoles, keyOf, personAlias } from "./held-roles.js";
import { HeldSettings } from "./held-settings.js";

/**
 * The current user, as a view of one row that holds what the rules ask of them: fields, roles and groups as numbers of
 * truth values, the keys of records on which roles are held, values of the request. Its columns are made as conditions
 * ask for them; the view is written last.
 */
export class SubjectView implements OpenSubject {
  readonly #ruleset: Ruleset;
  readonly #plan: Plan;
  readonly #schemas: Schemas;
  readonly #roles: HeldRoles;
  readonly #settings: HeldSettings | undefined;
  readonly #columns = new Map<string, Fragment>();
  readonly #names = new Names();

  constructor(ruleset: Ruleset, plan: Plan, schemas: Schemas) {
    this.#ruleset = ruleset;
    this.#plan = plan;
    this.#schemas = schemas;
    this.#roles = new HeldRoles(ruleset, (place) => this.#within(place));
    this.#settings = HeldSettings.of(ruleset, (place) => this.#within(place));
    // Kept beside the facts, see planned.ts.
    this.#names.of("seal", "kept seal");
    this.#column("meets", "meets", () => this.#meets());
  }

  sourceOf(table: Table): string {
    return sourceName(postgres, table, this.#schemas.tables);
  }

  /** Whether a rule can be met at all: by a visitor, or a person who is there and active. */
  get meets(): Formula {
    return test(isFactAmong("meets", [true]), true);
  }

  value(operand: SessionOperand): Fragment {
    const name = sessionOperandName(operand);
    const isList = operand.type.element !== undefined;
    return fact(
      this.#column(name.replace(/^me\./, ""), name, () => this.#read(operand)),
      isList,
    );
  }

  membership(name: string, among: readonly Truth[]): Fragment {
    const set = this.#settings?.ofTable(name);
    if (set !== undefined) {
      const isSet = hasFact(
        this.#column(set.fact, set.fact, () => set.list),
        set.element,
      );
      return among.includes(True) ? isSet : sql`not ${isSet}`;
    }
    const column = this.#column(name, `in ${name}`, () => {
      const met = this.#roles.member(name);
      if (met.kind === "open") return this.#roles.numberOf(met.name);
      const truth = truthNumber(met, this.#within(this.#person()));
      return sql`case when ${this.#isVisitor()} then ${raw(String(False))} else ${truth} end`;
    });
    return isFactAmong(column, among);
  }

  held(role: string): Fragment {
    const set = this.#settings?.ofRecords(role);
    if (set !== undefined) {
      return set.keys(
        fact(
          this.#column(set.fact, set.fact, () => set.list),
          true,
        ),
      );
    }
    return fact(
      this.#column(`${role} of`, `held ${role}`, () => this.#heldKeys(role)),
      true,
    );
  }

  /** The view, once everything that asks for its columns is written. */
  statement(): string {
    const quote = postgres.quoteName;
    const { inside } = this.#schemas;
    const { people } = this.#ruleset.schema;
    const columns = [...this.#columns].map(([name, value]) => `  ${written(value)} as ${quote(name)}`);
    // "offset 0": the current user is found out once, and not again for each part that asks for it.
    const said = `a as materialized (
  select claims, coalesce(cast(claims -> 'request' ->> 'now' as timestamptz), now()) as now
  from (select ${qualified(inside, "claims")}() as claims offset 0) s
)`;
    const tables =
      people === undefined
        ? [said]
        : [said, this.#ownRecord(people.table), ...this.#roles.tables(), ...this.#setTable(people)];
    const from = people === undefined ? "from a" : `from a left join ${personAlias} on true`;
    return `create view ${qualified(inside, "subject")} as with ${tables.join(", ")}\nselect\n${columns.join(",\n")}\n${from}`;
  }

  #setTable(people: People): string[] {
    const own = `(select ${postgres.quoteName(keyOf(people).column)} from ${personAlias})`;
    return this.#settings === undefined ? [] : [this.#settings.table(own)];
  }

  /** Their own record. */
  #ownRecord(table: Table): string {
    const quote = postgres.quoteName;
    const columns = table.fields.filter(isOwn).map((field) => `r.${quote(field.column)}`);
    const [key] = table.key;
    const isAsking = `r.${quote(key?.column ?? "")} = ${qualified(this.#schemas.inside, "person")}(a.claims)`;
    return `${personAlias} as materialized (
  select ${columns.join(", ")} from a join ${this.sourceOf(table)} r on ${isAsking}
)`;
  }

  /** The name of a column, which is made where it is not there. */
  #column(wanted: string, id: string, make: () => Fragment): string {
    const name = this.#names.of(wanted, id);
    if (!this.#columns.has(name)) this.#columns.set(name, make());
    return name;
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
      membership: (name, among) => sql`${this.#roles.numberOf(name)} in (${raw(among.join(", "))})`,
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
