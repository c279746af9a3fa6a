import { postgres } from "../postgres.js";
import { dollars, literal, mark } from "./ddl.js";

/**
 * Makes the roles with whose rights the views read records, where they are not there. Whoever is a member of one reads
 * listed records with all their fields: that should be the owner of the tables alone.
 */
export function makeReaders(readers: readonly string[]): string {
  return `do ${dollars(`declare
  readers name[] := ${`array[${readers.map(literal).join(", ")}]`};
  reader name;
  holder text;
begin
  foreach reader in array readers loop
    if not exists (select from pg_roles where rolname = reader) then
      execute format('create role %I nologin', reader);
      execute format('comment on role %I is %L', reader, ${literal(`${mark}reads what a policy lets through.`)});
      if not pg_has_role(reader, 'usage') then execute format('grant %I to current_user', reader); end if;
    end if;
    if exists (
      select from pg_roles where rolname = reader
        and (rolsuper or rolbypassrls or rolcanlogin or pg_has_role(oid, current_user, 'usage'))
    ) then
      raise exception using message = format('%s is not a role that policies hold for', reader),
        hint = 'name another role as the reader: one that cannot log in, does not bypass row security, and is not a member of the owner';
    end if;
    if not pg_has_role(reader, 'usage') then
      raise exception using errcode = 'insufficient_privilege',
        message = format('%s may not make views of %s', current_user, reader);
    end if;
    for holder in
      select member::regrole from pg_auth_members join pg_roles on pg_roles.oid = roleid
      where rolname = reader and member <> current_user::regrole
    loop
      raise warning '% is a member of %, and reads listed records with all their fields', holder, reader;
    end loop;
  end loop;
exception when insufficient_privilege then
  raise exception using errcode = 'insufficient_privilege', message = sqlerrm,
    hint = format('let somebody who may say: %s',
      (select string_agg(format('create role %1$I nologin; grant %1$I to %2$I', one, current_user), '; ') from unnest(readers) one));
end`)}`;
}

/** Takes the role away again, if it was made here and serves nothing else. */
export function dropReader(reader: string): string {
  const name = postgres.quoteName(reader);
  return `do ${dollars(`begin
  if (select shobj_description(oid, 'pg_authid') from pg_roles where rolname = ${literal(reader)}) like ${literal(`${mark}%`)} then
    drop role ${name};
  end if;
exception when dependent_objects_still_exist or insufficient_privilege then
  raise notice '%', ${literal(`the role ${reader} is left: it serves another database, or belongs to somebody else`)};
end`)}`;
}
