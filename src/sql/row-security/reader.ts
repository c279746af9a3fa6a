import { postgres } from "../postgres.js";
import { dollars, literal, mark } from "./ddl.js";
import type { Schemas } from "./foundation.js";

/** Makes the role with whose rights the views read records: a role of nobody, that owns nothing else. */
export function makeReader({ reader }: Schemas): string {
  const name = postgres.quoteName(reader);
  return `do ${dollars(`begin
  if not exists (select from pg_roles where rolname = ${literal(reader)}) then
    create role ${name} nologin;
    comment on role ${name} is ${literal(`${mark}reads what a policy lets through.`)};
    if not pg_has_role(${literal(reader)}, 'usage') then grant ${name} to current_user; end if;
  end if;
  if exists (select from pg_roles where rolname = ${literal(reader)} and (rolsuper or rolbypassrls or rolcanlogin)) then
    raise exception using message = ${literal(`${reader} is no role that policies hold for`)},
      hint = 'name another one as the reader: one that cannot log in, and is neither a superuser nor one who passes by row security';
  end if;
  if not pg_has_role(${literal(reader)}, 'usage') then
    raise exception using errcode = 'insufficient_privilege', message = format('%s may not make views of %s', current_user, ${literal(reader)}),
      hint = format('let somebody who may say: grant %s to %I', ${literal(name)}, current_user);
  end if;
exception when insufficient_privilege then
  raise exception using errcode = 'insufficient_privilege', message = sqlerrm,
    hint = format('let somebody who may say: create role %s nologin; grant %s to %I', ${literal(name)}, ${literal(name)}, current_user);
end`)}`;
}

/** Takes the role away again, if it was made here and serves nothing else. */
export function dropReader({ reader }: Schemas): string {
  const name = postgres.quoteName(reader);
  return `do ${dollars(`begin
  if (select shobj_description(oid, 'pg_authid') from pg_roles where rolname = ${literal(reader)}) like ${literal(`${mark}%`)} then
    drop role ${name};
  end if;
exception when dependent_objects_still_exist or insufficient_privilege then
  raise notice '%', ${literal(`the role ${reader} is left: it serves another database, or belongs to somebody else`)};
end`)}`;
}
