import type { Field, People } from "../../schema/schema.js";
import { postgres } from "../postgres.js";
import { sourceName } from "../scope.js";
import { definerFunction, dollars, literal, ownFunction, plain, qualified, type Schemas, typeOf } from "./ddl.js";
import { gateTables } from "./gates.js";
import type { SubjectView } from "./subject-view.js";
import { opened, sealFunction } from "./trust.js";

/**
 * The functions by which the application says who the current user is, and by which everything else finds it out. `asksOthers`: whether a
 * condition on one record asks about others.
 */
export function foundation(
  schemas: Schemas,
  people: People | undefined,
  asksOthers: boolean,
  subject: SubjectView,
): string[] {
  const { seen, inside } = schemas;
  const at = (name: string) => qualified(inside, name);
  const confirm = definerFunction(
    `${qualified(seen, "confirm")}(variadic rules text[]) returns void`,
    `begin
  -- Each call adds; one that names nothing takes all of them back.
  perform set_config('portier.confirmed', case when rules = '{}' then '' else to_jsonb(${at("confirmed")}() || rules)::text end, true);
end`,
  );
  // Each look is a statement of its own, and sees what is there by then, unless the transaction keeps to what it began with.
  const requireVersion = definerFunction(
    `${qualified(seen, "require_version")}(version bigint, patience interval default '0') returns void`,
    `declare
  latest timestamptz := clock_timestamp() + patience;
  known bigint;
begin
  loop
    select state.version into known from ${qualified(schemas.tables, "portier_state")} state;
    if known >= require_version.version then return; end if;
    if (clock_timestamp() < latest) is not true then
      raise object_not_in_prerequisite_state using
        message = format('this server is behind: it knows version %s, not %s', known, version),
        hint = 'try again, give it more patience, or ask the primary';
    end if;
    perform pg_sleep(0.01);
  end loop;
end`,
  );
  const me = definerFunction(
    `${at("me")}() returns ${at("subject")}`,
    `declare
  sealed text := current_setting('portier.subject', true);
begin
  if coalesce(sealed, '') = '' then
    -- No current user was set: a login that stands for a person is that person, every other one is nobody.
    -- Never null: that would give back what the session began with.
    perform set_config('portier.claims', coalesce(
      (select jsonb_build_object('person', person)::text from ${at("logins")} where login = session_user), ''), true);
    return (select a from ${at("subject")} a);
  end if;
  ${opened("subject", schemas)}
  return jsonb_populate_record(null::${at("subject")}, substr(sealed, 65)::jsonb);
end`,
    { volatility: "stable", settings: dates },
  );
  // Worked out while a statement is planned. It can be called immutable, as a plan is made anew when the user, what is active
  // for them or the table changes.
  const rlsActive = `create function ${at("rls_active")}(what regclass) returns boolean
  language plpgsql immutable security definer parallel safe
as ${dollars(`begin
  if pg_catalog.row_security_active(what) then return true; end if;
  raise exception using errcode = 'insufficient_privilege',
    message = pg_catalog.format('row security is not active on %s', what),
    hint = 'run the migration again, as the owner of the tables';
end`)}`;
  const fault = ownFunction(
    `${at("fault")}(what text) returns boolean`,
    `begin
  raise exception using errcode = 'data_exception', message = what;
end`,
  );
  const refuse = definerFunction(
    `${at("refuse")}(what text, action text, refused text[], missing text[], blocked text[], notes text[]) returns void`,
    `declare
  fields text := array_to_string(array_remove(refused, ''), ', ');
  said text[] := '{}';
begin
  if refused <> '{}' then
    said := said || format('not permitted: %s %s%s', action, what, ' (' || nullif(fields, '') || ')');
  end if;
  if missing <> '{}' then
    said := said || format('no such record (%s)', array_to_string(missing, ', '));
  end if;
  fields := (select string_agg(distinct note, ' ') from (
    select unnest(notes) union all select r.note from ${at("notes")} r where r.of_table = what and r.name = any (blocked)) n(note));
  raise exception using
    errcode = case when refused = '{}' then 'foreign_key_violation' else 'insufficient_privilege' end, table = what,
    message = array_to_string(said, '; '), detail = coalesce(fields, 'The rules of the document do not permit it.');
end`,
  );
  const common = ownFunction(
    `${at("common")}(given text[], fields text[]) returns text[]`,
    `begin
  return array(select field from unnest(given) field where field = any (fields));
end`,
    "immutable",
  );
  const without = ownFunction(
    `${at("without")}(texts text[], gone text[]) returns text[]`,
    `begin
  return array(select one from unnest(texts) one where not one = any (gone));
end`,
    "immutable",
  );
  const confirmed = definerFunction(
    `${at("confirmed")}() returns text[]`,
    `begin
  return array(select jsonb_array_elements_text(nullif(current_setting('portier.confirmed', true), '')::jsonb));
end`,
    { volatility: "stable" },
  );
  const unconfirmed = definerFunction(
    `${at("unconfirmed")}(what text, action text, asked text[], notes jsonb) returns void`,
    `declare
  rules text[] := array(select distinct rule from unnest(asked) rule where not rule = any (${at("confirmed")}()) order by rule);
begin
  raise exception using errcode = 'raise_exception', table = what,
    message = format('to be confirmed: %s %s: %s', action, what,
      (select string_agg(coalesce(notes ->> asks.rule, (select max(n.note) from ${at("notes")} n
          where n.of_table = what and n.rule = asks.rule), asks.rule), ' ' order by asks.rule) from unnest(rules) asks(rule))),
    hint = format(${literal(`select ${plain(seen)}.confirm(%s), then the same again`)},
      (select string_agg(quote_literal(rule), ', ') from unnest(rules) rule));
end`,
  );
  const unfit = definerFunction(
    `${at("unfit")}(what text, state text, broken text, field text) returns void`,
    `begin
  -- The database's own message would quote values that may be hidden.
  raise exception using errcode = state, table = what, constraint = broken, column = field,
    message = case state
      when '23502' then format('%s: a value is needed in %s', what, field)
      when '23505' then format('%s: this key or value cannot be used (%s)', what, broken)
      else format('%s: these values cannot be stored (%s)', what, coalesce(nullif(broken, ''), state))
    end;
end`,
  );
  const key = people?.table.key[0] as Field | undefined;
  const person =
    people === undefined || key === undefined
      ? []
      : [
          ownFunction(
            `${at("person")}(claims jsonb) returns ${typeOf(sourceName(postgres, people.table, schemas.tables), key.column)}`,
            `begin
  return claims ->> 'person';
end`,
            "stable",
          ),
        ];
  return [
    `create table if not exists ${at("secret")} (one boolean primary key default true check (one), bytes bytea not null)`,
    // 32 bytes that nobody can guess: a random UUID has 122 bits of them.
    `insert into ${at("secret")} (bytes) select sha256(convert_to(string_agg(gen_random_uuid()::text, ''), 'UTF8'))
  from generate_series(1, 4) on conflict do nothing`,
    `create table if not exists ${at("logins")} (login name primary key, person text not null)`,
    `comment on table ${at("logins")} is ${literal("Database logins that stand for a person where no current user was set.")}`,
    sealFunction(schemas),
    fault,
    ...person,
    subject.statement(),
    me,
    rlsActive,
    setPerson(schemas, asksOthers),
    requireVersion,
    confirm,
    confirmed,
    unconfirmed,
    common,
    without,
    ...gateTables(schemas),
    refuse,
    unfit,
  ];
}

/**
 * PostgreSQL costs a condition on other records as if it were worked out for each record, also where it is not, and would
 * compile statements for a second that run for an instant.
 */
const withoutJit = "set_config('jit', 'off', true)";

/** A date in a text must be read as it was written, whatever the session says of dates. */
const dates = "set datestyle = 'ISO, YMD'";

/** Sets the current user; `more`: what is set besides, from the row `asked` of them. */
export function setPerson(schemas: Schemas, asksOthers: boolean, more: readonly string[] = []): string {
  const { seen, inside } = schemas;
  const at = (name: string) => qualified(inside, name);
  return definerFunction(
    `${qualified(seen, "set_person")}(person text, request jsonb default '{}') returns void`,
    `begin
  -- An open cursor goes on with what the one saw who opened it, also beyond the transaction when it is held.
  if exists (select from pg_cursors where name <> '' and statement is distinct from current_query()) then
    raise object_not_in_prerequisite_state using
      message = 'a cursor is open, and would go on showing what another user may see',
      hint = 'close it (close all) before you set the current user';
  end if;
  perform set_config('portier.claims', jsonb_build_object('person', person, 'request', request)::text, true);
  -- Worked out once for the transaction, so that all of it is judged by one state of things.
  perform ${[
    `set_config('portier.subject', ${at("seal")}('subject', said) || said, true)`,
    "set_config('portier.confirmed', '', true)",
    ...(asksOthers ? [withoutJit] : []),
    ...more,
  ].join(",\n    ")}
    from (select a as asked, to_jsonb(a)::text as said from ${at("subject")} a offset 0) s;
end`,
    { settings: dates },
  );
}
