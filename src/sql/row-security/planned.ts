import type { Fact } from "../fragment.js";
import { postgres } from "../postgres.js";
import { type FactWriter, literal, qualified, selected, whoAsksAlias } from "./ddl.js";
import { definerFunction, type Schemas } from "./foundation.js";

/**
 * Statements that are planned for the one who asks. While PostgreSQL plans a statement it works out functions that it is
 * told are immutable; these here are not, as they say who asks. So what the rules ask of who asks is constant in the plan:
 * conditions for others fall away, and what is left is planned like a condition written by hand.
 *
 * Such a plan must serve nobody else. Where PostgreSQL may keep it (a statement prepared by a name, or in a function) it
 * is not made: then who asks is found out whenever the statement is run. Where it is made, {@link isStillPlanned} is asked
 * once, before a row is read.
 */
export function planningFunctions({ inside, seen }: Schemas, sealed: string): string[] {
  const at = (name: string) => qualified(inside, name);
  // All names are written out: the caller's search path is not to be trusted, and to set one would take as long as the rest.
  const plain = (head: string, volatility: string, body: string) =>
    `create function ${head}\n  language plpgsql ${volatility} parallel safe\nas $portier$\nbegin\n  ${body}\nend\n$portier$`;
  return [
    definerFunction(
      `${at("planned")}() returns jsonb`,
      `declare
  sealed text := current_setting('portier.asker', true);
  around text;
  is_kept boolean;
  is_sealed boolean;
begin
  -- Whoever has a login of their own may look at the plan, and is told nothing by it.
  if coalesce(sealed, '') = '' then return null; end if;
  get diagnostics around = pg_context;
  if position(chr(10) in around) > 0 then return null; end if;
  select left(sealed, 64) = ${sealed},
    exists (select from pg_prepared_statements where statement = current_query() or current_query() ~* '\\mexecute\\M')
    into is_sealed, is_kept;
  if is_sealed is not true then
    raise exception using errcode = 'insufficient_privilege',
      message = ${literal(`who asks was not said by ${seen}.ask_as in this transaction`)};
  end if;
  if is_kept then return null; end if;
  return substr(sealed, 65)::jsonb || jsonb_build_object('seal', left(sealed, 64));
end`,
      { volatility: "immutable", parallel: "safe" },
    ),
    definerFunction(
      `${at("asked")}() returns jsonb`,
      `begin
  return jsonb_build_object('facts', to_jsonb(${at("me")}()));
end`,
      { volatility: "stable" },
    ),
    plain(
      `${at("facts")}() returns jsonb`,
      "immutable",
      `return nullif(pg_catalog.substr(pg_catalog.current_setting('portier.asker', true), 65), '')::pg_catalog.jsonb operator(pg_catalog.->) 'facts';`,
    ),
    plain(
      `${at("asker_of")}(facts jsonb) returns ${at("asker")}`,
      "immutable security definer",
      `return pg_catalog.jsonb_populate_record(null::${at("asker")}, facts);`,
    ),
    // It belongs to the reader: what is active for that one is asked here.
    definerFunction(
      `${at("guarded")}(what regclass) returns boolean`,
      `begin
  if row_security_active(what) then return true; end if;
  raise exception using errcode = 'insufficient_privilege', message = format('the rules are not in force on %s', what),
    hint = 'run the migration again, as the owner of the tables';
end`,
      { volatility: "immutable", parallel: "safe" },
    ),
    plain(
      `${at("stale")}() returns boolean`,
      "stable",
      `raise exception using errcode = 'object_not_in_prerequisite_state',
    message = 'this statement was planned for somebody who asked before',
    hint = 'send it anew, or prepare it by a name';`,
    ),
  ];
}

/**
 * What is found out about the one who asks, beside the table that it is asked of: a constant of the plan where that is made
 * for them, and otherwise one row that is read when the statement is run.
 */
export function askedOf(inside: string): string {
  return `coalesce(${qualified(inside, "planned")}(), ${qualified(inside, "asked")}()) as ${whoAsksAlias}(said)`;
}

/**
 * That the policy of a table holds for who reads its records, known while the statement is planned: without it, as where
 * somebody copied the database without its roles, the view would show all of them.
 */
export function isGuarded(inside: string, source: string): string {
  return `${qualified(inside, "guarded")}(${literal(source)})`;
}

/** Whether who asks is still the one for whom the statement is planned. */
export function isStillPlanned(inside: string): string {
  const isSame = `left(current_setting('portier.asker', true), 64) = ${said} ->> 'seal'`;
  // The setting could be made again by hand, but not in the same transaction.
  const isNow = `extract(epoch from now()) = cast(${said} ->> 'at' as numeric)`;
  return `case when ${said} ->> 'seal' is null or (${isSame} and ${isNow}) then true else ${qualified(inside, "stale")}() end`;
}

/** Facts as constants of a plan that is made for who asks. */
export function constant(inside: string): FactWriter {
  const facts = `${qualified(inside, "facts")}()`;
  return (one) => (one.among === undefined ? valueIn(facts, one, inside) : testIn(facts, one.among, one));
}

/** Facts from {@link askedOf}. */
export function asked(inside: string): FactWriter {
  const facts = `${said} -> 'facts'`;
  const later = selected(inside);
  return (one) => {
    if (one.among !== undefined) return testIn(facts, one.among, one);
    // To take a value out of what is found out takes too long to be done for each row.
    return `case when ${said} ->> 'seal' is null then ${later(one)} else ${valueIn(facts, one, inside)} end`;
  };
}

const said = `${whoAsksAlias}.said`;

function testIn(facts: string, among: readonly (number | boolean)[], { fact }: Fact): string {
  const tests = among.map((value) => `${facts} @> ${literal(JSON.stringify({ [fact]: value }))}`);
  return tests.length === 1 ? (tests[0] as string) : `(${tests.join(" or ")})`;
}

function valueIn(facts: string, { fact }: Fact, inside: string): string {
  return `(${qualified(inside, "asker_of")}(${facts})).${postgres.quoteName(fact)}`;
}
