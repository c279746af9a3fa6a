import type { Fact } from "../fragment.js";
import { postgres } from "../postgres.js";
import {
  definerFunction,
  dollars,
  type FactWriter,
  literal,
  qualified,
  type Schemas,
  selected,
  subjectAlias,
} from "./ddl.js";

/**
 * Statements that are planned for the current user. `seal` is an expression: the seal of the setting `sealed`, by the secret
 * `bytes`.
 *
 * While PostgreSQL plans a statement it works out functions that it is
 * told are immutable; these here are not, as they depend on the current user. So what the rules ask of the current user is constant in the plan:
 * conditions for others fall away, and what is left is planned like a condition written by hand.
 *
 * Such a plan must serve nobody else. Where PostgreSQL may keep it (a statement prepared by a name, or in a function) it
 * is not made: then the current user is found out whenever the statement is run. Where it is made, {@link planIsCurrent} is asked
 * once, before a row is read.
 */
export function planningFunctions({ inside, seen }: Schemas, seal: string): string[] {
  const at = (name: string) => qualified(inside, name);
  return [
    planning(
      `${at("planned_facts")}() returns jsonb`,
      "immutable security definer",
      `declare
  sealed pg_catalog.text := pg_catalog.current_setting('portier.subject', true);
  around pg_catalog.text;
  bytes pg_catalog.bytea;
  is_kept pg_catalog.bool;
begin
  -- Whoever is a person by their login may look at the plan, and is told nothing by it.
  if sealed is null or pg_catalog.length(sealed) operator(pg_catalog.=) 0 then return null; end if;
  get diagnostics around = pg_context;
  -- Inside a function, which keeps its plans.
  if position(pg_catalog.chr(10) in around) operator(pg_catalog.>) 0 then return null; end if;
  select secret.bytes, exists (
      select from pg_catalog.pg_prepared_statements
      where statement operator(pg_catalog.=) pg_catalog.current_query()
        or pg_catalog.current_query() operator(pg_catalog.~*) '[[:<:]]execute[[:>:]]'
    )
    into bytes, is_kept from ${at("secret")} secret;
  if (pg_catalog.left(sealed, 64) operator(pg_catalog.=) ${seal}) is not true then
    raise exception using errcode = 'insufficient_privilege',
      message = ${literal(`the current user was not set by ${seen}.set_person in this transaction`)};
  end if;
  if is_kept then return null; end if;
  return pg_catalog.substr(sealed, 65)::pg_catalog.jsonb
    operator(pg_catalog.||) pg_catalog.jsonb_build_object('seal', ${sealOfNow});
end`,
    ),
    definerFunction(
      `${at("current_facts")}() returns jsonb`,
      `begin
  return to_jsonb(${at("me")}());
end`,
      { volatility: "stable" },
    ),
    planning(
      `${at("facts")}() returns jsonb`,
      "immutable",
      `begin
  return pg_catalog.substr(pg_catalog.current_setting('portier.subject', true), 65)::pg_catalog.jsonb;
end`,
    ),
    planning(
      `${at("subject_of")}(facts jsonb) returns ${at("subject")}`,
      "immutable security definer",
      `begin
  return pg_catalog.jsonb_populate_record(null::${at("subject")}, facts);
end`,
    ),
    // It belongs to the reader: what is active for that one is asked here.
    planning(
      `${at("rls_active")}(what regclass) returns boolean`,
      "immutable security definer",
      `begin
  if pg_catalog.row_security_active(what) then return true; end if;
  raise exception using errcode = 'insufficient_privilege',
    message = pg_catalog.format('row security is not active on %s', what),
    hint = 'run the migration again, as the owner of the tables';
end`,
    ),
    planning(
      `${at("plan_is_current")}(seal text) returns boolean`,
      "stable",
      `declare
  sealed pg_catalog.text := pg_catalog.current_setting('portier.subject', true);
begin
  if seal is null or seal operator(pg_catalog.=) ${sealOfNow} then return true; end if;
  raise exception using errcode = 'object_not_in_prerequisite_state',
    message = 'this statement was planned for another user',
    hint = 'send it anew, or prepare it by a name';
end`,
    ),
  ];
}

/** The seal, with the transaction: the setting could be made again by hand in a later one. */
const sealOfNow = `pg_catalog.concat(pg_catalog.left(sealed, 64), ' ', extract(epoch from pg_catalog.now()))`;

/**
 * A function that is worked out while statements are planned. To set a search path for it would take longer than all the
 * rest, and the caller's is not to be trusted: so every name and operator in it says its schema (`nullif` has an operator
 * that cannot).
 */
function planning(head: string, marks: string, body: string): string {
  return `create function ${head}\n  language plpgsql ${marks} parallel safe\nas ${dollars(body)}`;
}

/**
 * What is found out about the current user, beside the table that it is asked of: a constant of the plan where that is made
 * for them, and otherwise one row that is read when the statement is run.
 */
export function askedOf(inside: string): string {
  return `coalesce(${qualified(inside, "planned_facts")}(), ${qualified(inside, "current_facts")}()) as ${subjectAlias}(facts)`;
}

/**
 * That the policy of a table holds for who reads its records, known while the statement is planned: without it, as where
 * somebody copied the database without its roles, the view would show all of them.
 */
export function isRlsActive(inside: string, source: string): string {
  return `${qualified(inside, "rls_active")}(${literal(source)})`;
}

/** Whether the current user is still the one for whom the statement is planned, if it is planned for somebody. */
export function planIsCurrent(inside: string): string {
  return `${qualified(inside, "plan_is_current")}(${facts} ->> 'seal')`;
}

/** Facts as constants of a plan that is made for the current user. */
export function constant(inside: string): FactWriter {
  const facts = `${qualified(inside, "facts")}()`;
  return (one) => (one.among === undefined ? valueIn(facts, one, inside) : testIn(facts, one.among, one));
}

/** Facts from {@link askedOf}. */
export function asked(inside: string): FactWriter {
  const later = selected(inside);
  return (one) => {
    if (one.among !== undefined) return testIn(facts, one.among, one);
    // To take a value out of what is found out takes too long to be done for each row.
    return `case when ${facts} ->> 'seal' is null then ${later(one)} else ${valueIn(facts, one, inside)} end`;
  };
}

const facts = `${subjectAlias}.facts`;

function testIn(facts: string, among: NonNullable<Fact["among"]>, { fact }: Fact): string {
  const tests = among.map((value) => `${facts} @> ${literal(JSON.stringify({ [fact]: value }))}`);
  return tests.length === 1 ? (tests[0] as string) : `(${tests.join(" or ")})`;
}

function valueIn(facts: string, { fact }: Fact, inside: string): string {
  return `(${qualified(inside, "subject_of")}(${facts})).${postgres.quoteName(fact)}`;
}
