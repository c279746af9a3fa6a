import type { Field, People } from "../../schema/schema.js";
import { postgres } from "../postgres.js";
import { sourceName } from "../scope.js";
import { definerFunction, literal, plain, qualified, type Schemas, typeOf } from "./ddl.js";
import { planningFunctions } from "./planned.js";

/**
 * The functions by which the application says who the current user is, and by which everything else finds it out. `asksOthers`: whether a
 * condition on one record asks about others.
 */
export function foundation(
  schemas: Schemas,
  people: People | undefined,
  asksOthers: boolean,
  subjectView: () => string,
): string[] {
  const { seen, inside } = schemas;
  const at = (name: string) => qualified(inside, name);
  // Good for one setting in this transaction of this connection alone. Nested, as a hash over key and message alone could
  // be lengthened.
  const sealOf = (setting: string, text: string) => {
    const parts = `'${setting}', ' ', pg_catalog.pg_backend_pid(), ' ', extract(epoch from pg_catalog.now()), ' ', ${text}`;
    const inner = `pg_catalog.sha256(bytes operator(pg_catalog.||) pg_catalog.convert_to(pg_catalog.concat(${parts}), 'UTF8'))`;
    return `pg_catalog.encode(pg_catalog.sha256(bytes operator(pg_catalog.||) ${inner}), 'hex')`;
  };
  const seal = (setting: string, text: string) => `(select ${sealOf(setting, text)} from ${at("secret")})`;
  const opened = (setting: string) => `if left(sealed, 64) is distinct from ${seal(setting, "substr(sealed, 65)")} then
    raise exception using errcode = 'insufficient_privilege',
      message = ${literal(`the current user was not set by ${seen}.set_person in this transaction`)};
  end if;`;
  // A date in a text must be read as it was written, whatever the session says of dates.
  const dates = "set datestyle = 'ISO, YMD'";
  const setPerson = definerFunction(
    `${qualified(seen, "set_person")}(person text, request jsonb default '{}') returns void`,
    `declare
  claims text := jsonb_build_object('person', person, 'request', request);
  subject text;
begin${asksOthers ? withoutJit : ""}
  -- An open cursor goes on with what the one saw who opened it, also beyond the transaction when it is held.
  if exists (select from pg_cursors where name <> '' and statement is distinct from current_query()) then
    raise object_not_in_prerequisite_state using
      message = 'a cursor is open, and would go on showing what another user may see',
      hint = 'close it (close all) before you set the current user';
  end if;
  perform set_config('portier.claims', ${seal("claims", "claims")} || claims, true);
  -- Worked out once for the transaction, so that all of it is judged by one state of things.
  select to_jsonb(a) into subject from ${at("subject")} a;
  perform set_config('portier.subject', ${seal("subject", "subject")} || subject, true);
  perform set_config('portier.confirmed', '', true);
end`,
    { settings: dates },
  );
  const confirm = definerFunction(
    `${qualified(seen, "confirm")}(variadic rules text[]) returns void`,
    `begin
  -- Each call adds; one that names nothing takes all of them back.
  perform set_config('portier.confirmed', case when rules = '{}' then '' else to_jsonb(${at("confirmed")}() || rules)::text end, true);
end`,
  );
  const claims = definerFunction(
    `${at("claims")}() returns jsonb`,
    `declare
  sealed text := current_setting('portier.claims', true);
begin
  if coalesce(sealed, '') = '' then
    -- No current user was set: a login that stands for a person is that person, every other one is nobody.
    return (select jsonb_build_object('person', person) from ${at("logins")} where login = session_user);
  end if;
  ${opened("claims")}
  return substr(sealed, 65)::jsonb;
end`,
    { volatility: "stable" },
  );
  const me = definerFunction(
    `${at("me")}() returns ${at("subject")}`,
    `declare
  sealed text := current_setting('portier.subject', true);
begin
  if coalesce(sealed, '') = '' then
    return (select a from ${at("subject")} a);
  end if;
  ${opened("subject")}
  return jsonb_populate_record(null::${at("subject")}, substr(sealed, 65)::jsonb);
end`,
    { volatility: "stable", settings: dates },
  );
  const fault = definerFunction(
    `${at("fault")}(what text) returns boolean`,
    `begin
  raise exception using errcode = 'data_exception', message = what;
end`,
  );
  const refuse = definerFunction(
    `${at("refuse")}(what text, action text, refused text[], missing text[], notes text[]) returns void`,
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
  fields := (select string_agg(distinct note, ' ') from unnest(notes) note);
  raise exception using
    errcode = case when refused = '{}' then 'foreign_key_violation' else 'insufficient_privilege' end, table = what,
    message = array_to_string(said, '; '), detail = coalesce(fields, 'The rules of the document do not permit it.');
end`,
  );
  const common = definerFunction(
    `${at("common")}(given text[], fields text[]) returns text[]`,
    `begin
  return array(select field from unnest(given) field where field = any (fields));
end`,
    { volatility: "immutable", parallel: "safe" },
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
      (select string_agg(notes ->> rule, ' ' order by rule) from unnest(rules) rule)),
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
          definerFunction(
            `${at("person")}(claims jsonb) returns ${typeOf(sourceName(postgres, people.table, schemas.tables), key.column)}`,
            `begin
  return claims ->> 'person';
end`,
            { volatility: "stable" },
          ),
        ];
  return [
    `create table if not exists ${at("secret")} (one boolean primary key default true check (one), bytes bytea not null)`,
    // 32 bytes that nobody can guess: a random UUID has 122 bits of them.
    `insert into ${at("secret")} (bytes) select sha256(convert_to(string_agg(gen_random_uuid()::text, ''), 'UTF8'))
  from generate_series(1, 4) on conflict do nothing`,
    `create table if not exists ${at("logins")} (login name primary key, person text not null)`,
    `comment on table ${at("logins")} is ${literal("Database logins that stand for a person where no current user was set.")}`,
    claims,
    fault,
    ...person,
    subjectView(),
    me,
    ...planningFunctions(schemas, sealOf("subject", "pg_catalog.substr(sealed, 65)")),
    setPerson,
    confirm,
    confirmed,
    unconfirmed,
    common,
    refuse,
    unfit,
  ];
}

/**
 * PostgreSQL costs a condition on other records as if it were worked out for each record, also where it is not, and would
 * compile statements for a second that run for an instant.
 */
const withoutJit = "\n  perform set_config('jit', 'off', true);";
