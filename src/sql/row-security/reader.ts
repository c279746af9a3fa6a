import { postgres } from "../postgres.js";
import { dollars, literal, mark, type Schemas } from "./ddl.js";

/**
 * Makes the role with whose rights the views read records, where it is not there. Whoever is a member of it reads listed
 * records with all their fields: that should be the owner of the tables alone.
 */
export function makeReader({ reader }: Schemas): string {
  const name = postgres.quoteName(reader);
  return `do ${dollars(`declare
  holder text;
begin
  if not exists (select from pg_roles where rolname = ${literal(reader)}) then
    create role ${name} nologin;
    comment on role ${name} is ${literal(`${mark}reads what a policy lets through.`)};
    if not pg_has_role(${literal(reader)}, 'usage') then grant ${name} to current_user; end if;
  end if;
  if exists (
    select from pg_roles where rolname = ${literal(reader)}
      and (rolsuper or rolbypassrls or rolcanlogin or pg_has_role(oid, current_user, 'usage'))
  ) then
    raise exception using message = ${literal(`${reader} is not a role that policies hold for`)},
      hint = 'name another role as the reader: one that cannot log in, does not bypass row security, and is not a member of the owner';
  end if;
  if not pg_has_role(${literal(reader)}, 'usage') then
    raise exception using errcode = 'insufficient_privilege',
      message = format('%s may not make views of %s', current_user, ${literal(reader)});
  end if;
  for holder in
    select member::regrole from pg_auth_members
    where roleid = ${literal(name)}::regrole and member <> current_user::regrole
  loop
    raise warning '% is a member of %, and reads listed records with all their fields', holder, ${literal(reader)};
  end loop;
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
